"""Where plan and found differ: on every folder that the plan's word reaches, for everyone or some people."""

from __future__ import annotations

from collections.abc import Collection

from neatledger.core.access.differences import Difference, absences_at, differences_at
from neatledger.core.access.divergence import divergences
from neatledger.core.tree.address import Address
from neatledger.errors import UnknownNameError
from neatledger.ledger.locations import find_location, unknown_folder
from neatledger.questions.folders import is_there
from neatledger.questions.office import Office

__all__ = ["ask", "find_absences"]


def ask(
    office: Office, people: Collection[str] | None = None, below: Address | str | None = None
) -> list[Difference]:
    """Return both sides of every folder of the plan and person, those that agree too, and what differs below them.

    `below` keeps to one folder and what is in it. Raises `UnknownNameError` for who or what is not there.
    """
    below = office.below(below)
    if people is not None:
        people = {office.find_person(name).id for name in people}
    found = find_absences(office, people, below)
    absent = {one.address for one in found}
    for folder in office.plan.folders:
        address = folder.address
        if not _is_asked(address, below) or address in absent or address.system not in office.readers:
            continue
        try:
            location = find_location(office.readers[address.system], address)
        except UnknownNameError:
            # Nobody should have anything on it.
            continue
        asked = {
            name: office.systems.access(location, principals)
            for name, principals in office.people_on(address.system).items()
            if people is None or name in people
        }
        differences = differences_at(office.plan, address, asked)
        found += [each for each in differences if people is None or each.person in people]
    for system in office.readers:
        if below is None or below.system == system:
            found += _below_planned(office, system, people, below)
    return found


def find_absences(
    office: Office, people: Collection[str] | None = None, below: Address | None = None
) -> list[Difference]:
    """Return what everyone or some people should have on folders of the plan that were not found."""
    found: list[Difference] = []
    for folder in office.plan.folders:
        # What a pattern is for need not be there.
        if not _is_asked(folder.address, below) or b"*" in folder.address.path:
            continue
        presence = is_there(office, folder.address)
        if not presence:
            found += absences_at(office.plan, folder.address, is_seen=presence is False)
    return [one for one in found if people is None or one.person in people]


def _is_asked(address: Address, below: Address | None) -> bool:
    return below is None or address.is_within(below)


def _below_planned(
    office: Office, system: str, people: Collection[str] | None, below: Address | None
) -> list[Difference]:
    principals = office.systems.holders[system]
    if not principals or not any(folder.address.system == system for folder in office.plan.folders):
        return []
    everyone = office.systems.everyone(system, principals, is_narrow=True)
    matrix = everyone.matrix
    wanted = [each for each in enumerate(matrix.principals) if people is None or each[1].person in people]
    numbers = everyone.ordinary(wanted)
    top = 0
    if below is not None:
        row = matrix.find_row(below.parts)
        if row is None:
            raise unknown_folder(office.readers[system], below, "folder")
        top = row
    found = divergences(office.plan, system, everyone, numbers, top)
    return [each.difference for each in found if not each.is_planned]
