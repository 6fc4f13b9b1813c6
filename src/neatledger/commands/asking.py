"""What several commands ask in the same way."""

from __future__ import annotations

from collections.abc import Iterable

from neatledger.core.access import Access, access_to, access_to_file
from neatledger.core.people import Seat
from neatledger.ledger.places import Place

__all__ = ["ask_person", "seats_by_person"]


def seats_by_person(seats: Iterable[Seat]) -> dict[str, list[Seat]]:
    """Return person → their seats on one system, in the order of its accounts."""
    people: dict[str, list[Seat]] = {}
    for seat in seats:
        people.setdefault(seat.person, []).append(seat)
    return people


def ask_person(place: Place, seats: list[Seat]) -> Access:
    """Judge one person's access to a place."""
    if place.is_folder:
        return access_to(place.model, place.chain, seats, place.files, read_only=place.read_only)
    return access_to_file(place.model, place.chain, seats, read_only=place.read_only)
