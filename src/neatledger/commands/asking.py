"""What several commands ask in the same way."""

from __future__ import annotations

import os
from collections.abc import Iterable

from neatledger.app import App
from neatledger.core.access.differences import Difference
from neatledger.core.access.ways import Access
from neatledger.core.lists.table import MODELS
from neatledger.core.people.principals import Seat
from neatledger.core.tree.address import Address
from neatledger.errors import UnknownNameError
from neatledger.formats.names import decode_address
from neatledger.ledger.places import Place, find_place
from neatledger.ledger.reader import SurveyReader
from neatledger.reports.names import EntryNames
from neatledger.reports.sides import differences_at

__all__ = ["ask_person", "entry_names", "find_person", "place_at", "planned_differences", "seats_by_person"]


def seats_by_person(seats: Iterable[Seat]) -> dict[str, list[Seat]]:
    """Return person → their seats on one system, in the order of its accounts."""
    people: dict[str, list[Seat]] = {}
    for seat in seats:
        people.setdefault(seat.person, []).append(seat)
    return people


def place_at(reader: SurveyReader, address: Address) -> Place:
    """Find a place by its address as typed, or as machine formats write it (percent-encoded)."""
    decoded = Address(address.system, decode_address(os.fsdecode(address.path)))
    try:
        place = find_place(reader, address)
    except UnknownNameError:
        if decoded == address:
            raise
        return find_place(reader, decoded)
    if place.note and decoded != address:
        # An ordinary file's name cannot be told from a folder's name that a machine format has encoded.
        try:
            other = find_place(reader, decoded)
        except UnknownNameError:
            return place
        return other if not other.note else place
    return place


def entry_names(reader: SurveyReader) -> EntryNames:
    """Return the names of what stands in the lists of a system."""
    return EntryNames(reader.accounts, reader.groups, MODELS[reader.model])


def ask_person(app: App, place: Place, seats: list[Seat]) -> Access:
    """Judge one person's access to a place."""
    return app.services.access(place, seats)


def find_person(app: App, name: str) -> tuple[str, dict[str, list[Seat]]]:
    """Find a person by id, login or name; return their id, and their seats by system; raises `UnknownNameError`."""
    found: dict[str, list[Seat]] = {}
    everyone = [seat for seats in app.services.holders.values() for seat in seats]
    ids = {seat.person for seat in everyone} | set(app.plan.people)
    if name not in ids:
        folded = name.casefold()
        matches = {
            seat.person for seat in everyone if folded in (seat.account.login.casefold(), seat.name.casefold())
        }
        matches |= {person.id for person in app.plan.people.values() if person.name.casefold() == folded}
        if len(matches) != 1:
            hint = f"more than one: {', '.join(sorted(matches))}" if matches else "people lists everyone"
            raise UnknownNameError(f"nobody is called {name!r}", hint=hint)
        name = matches.pop()
    for seat in everyone:
        if seat.person == name:
            found.setdefault(seat.system, []).append(seat)
    return name, found


def planned_differences(app: App, person: str | None = None) -> list[Difference]:
    """Compare the sides on every folder of the plan that was found, for everyone or one person."""
    found: list[Difference] = []
    for folder in app.plan.folders:
        system = folder.address.system
        people = seats_by_person(app.services.holders.get(system, []))
        try:
            place = place_at(app.reader(system), folder.address)
        except UnknownNameError:
            continue
        asked = {name: ask_person(app, place, seats) for name, seats in people.items() if person in (None, name)}
        differences = differences_at(app.plan, folder.address, asked)
        found += [each for each in differences if person in (None, each.person)]
    return found
