"""Who can reach a folder or a file, and by which ways."""

from __future__ import annotations

from dataclasses import dataclass

from neatledger.core.access.differences import Difference, absences_at, differences_at, nearest_planned
from neatledger.core.access.ways import Access
from neatledger.core.lists.rights import Right
from neatledger.core.people.names import EntryNames
from neatledger.core.space.sizes import show_size
from neatledger.core.tree.address import Address
from neatledger.counting import count_of
from neatledger.ledger.locations import Location, locate
from neatledger.questions.folders import is_there
from neatledger.questions.office import Office

__all__ = ["WhoAnswer", "ask", "ask_both", "differences_of", "holding_words", "planned_at", "refuse_unknown"]


@dataclass(frozen=True, slots=True)
class WhoAnswer:
    """The access of everybody to one place, person by person, with its reasons.

    `single_files` is how many live links and hand-outs open files in the folder, and not the folder.
    """

    location: Location
    people: tuple[Access, ...]
    names: EntryNames
    single_files: int


def ask(office: Office, address: Address | str) -> WhoAnswer:
    """Return everybody's access to a place; raises `UnknownNameError` where it was not counted."""
    address = office.address(address)
    location = locate(office.reader(address.system), address)
    asked = tuple(office.systems.access(location, mine) for mine in office.people_on(address.system).values())
    return WhoAnswer(location, asked, office.names(address.system), _single_files(office, location))


def ask_both(office: Office, address: Address | str) -> list[Difference]:
    """Return where plan and found differ on one place, for everybody."""
    address = office.address(address)
    if _is_planned(office, address) and not (presence := is_there(office, address)):
        return absences_at(office.plan, address, is_seen=presence is False)
    location = locate(office.reader(address.system), address)
    people = office.people_on(address.system)
    asked = {person: office.systems.access(location, principals) for person, principals in people.items()}
    return differences_at(office.plan, location.address, asked)


def differences_of(office: Office, found: WhoAnswer) -> list[Difference]:
    """Return where plan and found differ on a place that was asked for; nothing where the plan is silent of it."""
    where = found.location.address
    if nearest_planned(office.plan, where) is None:
        return []
    return differences_at(office.plan, where, {one.person: one for one in found.people})


def planned_at(office: Office, address: Address) -> dict[str, Right] | None:
    """Return what the plan gives each person on a place; None where it does not speak of it."""
    if nearest_planned(office.plan, address) is None:
        return None
    return {person: office.plan.rights_at(address, person)[0] for person in office.plan.people}


def holding_words(office: Office, location: Location) -> str:
    """Say how many files a folder holds with all below it, and how large they are; nothing of a file."""
    if not location.is_folder:
        return ""
    reader = office.reader(location.address.system)
    row = reader.find_row(location.address.path)
    if row is None or not reader.chunk_count("totals.files"):
        return ""
    found = reader.totals(row)
    return f"In it and below: {count_of(found.files, 'file')}, {show_size(found.bytes)}."


def refuse_unknown(office: Office, address: Address) -> None:
    """Raise `UnknownNameError` for a place that neither the plan names nor the count has, where there is one."""
    if office.has_count and address.system in office.readers and not _is_planned(office, address):
        locate(office.readers[address.system], address)


def _is_planned(office: Office, address: Address) -> bool:
    return any(folder.address == address for folder in office.plan.folders)


def _single_files(office: Office, location: Location) -> int:
    service = office.systems.service(location.address.system)
    if service is None or not location.is_folder:
        return 0
    above = location.address.path.rstrip(b"/")
    links = [one.path for one in service.shared.links if one.is_file and not one.why_dead(service.day)]
    handed = [one.path for one in service.shared.hand_outs if one.is_file and one.is_live(service.day)]
    return sum(path.rpartition(b"/")[0] == above for path in (*links, *handed))
