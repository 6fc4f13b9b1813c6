"""Who can reach a folder or a file, and by which ways."""

from __future__ import annotations

from dataclasses import dataclass

from neatledger.core.access.differences import Difference, absences_at, differences_at
from neatledger.core.access.ways import Access
from neatledger.core.people.names import EntryNames
from neatledger.core.tree.address import Address
from neatledger.ledger.locations import Location, locate
from neatledger.questions.folders import is_there
from neatledger.questions.office import Office

__all__ = ["WhoAnswer", "ask", "ask_both", "refuse_unknown"]


@dataclass(frozen=True, slots=True)
class WhoAnswer:
    """The access of everybody to one place, person by person, with its reasons.

    `single_files` is how many live links and hand-outs open files in the folder, and not the folder.
    """

    location: Location
    people: tuple[Access, ...]
    names: EntryNames
    single_files: int


def ask(office: Office, address: Address) -> WhoAnswer:
    """Return everybody's access to a place; raises `UnknownNameError` where it was not counted."""
    location = locate(office.reader(address.system), address)
    asked = tuple(office.systems.access(location, mine) for mine in office.people_on(address.system).values())
    return WhoAnswer(location, asked, office.names(address.system), _single_files(office, location))


def ask_both(office: Office, address: Address) -> list[Difference]:
    """Return where plan and found differ on one place, for everybody."""
    if _is_planned(office, address) and not (presence := is_there(office, address)):
        return absences_at(office.plan, address, is_seen=presence is False)
    location = locate(office.reader(address.system), address)
    people = office.people_on(address.system)
    asked = {person: office.systems.access(location, principals) for person, principals in people.items()}
    return differences_at(office.plan, location.address, asked)


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
