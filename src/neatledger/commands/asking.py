"""What several commands ask in the same way."""

from __future__ import annotations

import os
from collections.abc import Iterable

from neatledger.app import App
from neatledger.core.access.differences import Difference
from neatledger.core.access.ways import Access
from neatledger.core.lists.table import MODELS
from neatledger.core.people.principals import Principal
from neatledger.core.tree.address import Address
from neatledger.errors import UnknownNameError
from neatledger.formats.names import decode_address
from neatledger.ledger.places import Location, find_location
from neatledger.ledger.reader import SurveyReader
from neatledger.reports.names import EntryNames
from neatledger.reports.sides import differences_at

__all__ = ["ask_person", "entry_names", "find_person", "location_at", "planned_differences", "principals_by_person"]


def principals_by_person(principals: Iterable[Principal]) -> dict[str, list[Principal]]:
    """Return person → their principals on one system, in the order of its accounts."""
    people: dict[str, list[Principal]] = {}
    for principal in principals:
        people.setdefault(principal.person, []).append(principal)
    return people


def location_at(reader: SurveyReader, address: Address) -> Location:
    """Find a place by its address as typed, or as machine formats write it (percent-encoded)."""
    decoded = Address(address.system, decode_address(os.fsdecode(address.path)))
    try:
        place = find_location(reader, address)
    except UnknownNameError:
        if decoded == address:
            raise
        return find_location(reader, decoded)
    if place.note and decoded != address:
        # An ordinary file's name cannot be told from a folder's name that a machine format has encoded.
        try:
            other = find_location(reader, decoded)
        except UnknownNameError:
            return place
        return other if not other.note else place
    return place


def entry_names(reader: SurveyReader) -> EntryNames:
    """Return the names of what stands in the lists of a system."""
    return EntryNames(reader.accounts, reader.groups, MODELS[reader.model])


def ask_person(app: App, place: Location, principals: list[Principal]) -> Access:
    """Judge one person's access to a place."""
    return app.services.access(place, principals)


def find_person(app: App, name: str) -> tuple[str, dict[str, list[Principal]]]:
    """Find a person by id, login or name; return their id, and their principals by system.

    Raises `UnknownNameError`.
    """
    found: dict[str, list[Principal]] = {}
    everyone = [principal for principals in app.services.holders.values() for principal in principals]
    ids = {principal.person for principal in everyone} | set(app.plan.people)
    if name not in ids:
        folded = name.casefold()
        matches = {
            principal.person
            for principal in everyone
            if folded in (principal.account.login.casefold(), principal.name.casefold())
        }
        matches |= {person.id for person in app.plan.people.values() if person.name.casefold() == folded}
        if len(matches) != 1:
            hint = f"more than one: {', '.join(sorted(matches))}" if matches else "people lists everyone"
            raise UnknownNameError(f"nobody is called {name!r}", hint=hint)
        name = matches.pop()
    for principal in everyone:
        if principal.person == name:
            found.setdefault(principal.system, []).append(principal)
    return name, found


def planned_differences(app: App, person: str | None = None) -> list[Difference]:
    """Compare the sides on every folder of the plan that was found, for everyone or one person."""
    found: list[Difference] = []
    for folder in app.plan.folders:
        system = folder.address.system
        people = principals_by_person(app.services.holders.get(system, []))
        try:
            place = location_at(app.reader(system), folder.address)
        except UnknownNameError:
            continue
        asked = {
            name: ask_person(app, place, principals) for name, principals in people.items() if person in (None, name)
        }
        differences = differences_at(app.plan, folder.address, asked)
        found += [each for each in differences if person in (None, each.person)]
    return found
