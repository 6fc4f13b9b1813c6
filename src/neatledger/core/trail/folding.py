"""Many records that are one thing to people: the same done by the same person in a short time, folded into a line."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from datetime import timedelta
from itertools import takewhile

from neatledger.core.trail.records import Record

__all__ = ["Fold", "fold"]


@dataclass(slots=True)
class Fold:
    """Records of one system, person, deed, origin and outcome, the first to the last, each soon after the one before.

    `place` is the deepest folder that holds all of them, or their own path where there is only one.
    """

    system: str
    first: Record
    last: Record
    number: int
    place: bytes


def fold(records: Iterable[tuple[str, Record]], within: timedelta) -> list[Fold]:
    """Return folds in the order of their first records; `records` are systems and records in the order of time."""
    open_folds: dict[tuple[object, ...], Fold] = {}
    order: list[Fold] = []
    for system, one in records:
        key = system, one.who.casefold(), one.did, one.is_done, one.address, one.device, bool(one.path)
        found = open_folds.get(key)
        if found is not None and one.moment - found.last.moment <= within:
            found.last = one
            found.number += one.number
            found.place = _common(found.place, one.path)
        else:
            open_folds[key] = made = Fold(system, one, one, one.number, one.path)
            order.append(made)
    return order


def _common(place: bytes, other: bytes) -> bytes:
    if place == other:
        return place
    pairs = zip(place.split(b"/"), other.split(b"/"), strict=False)
    return b"/".join(one for one, _ in takewhile(lambda pair: pair[0] == pair[1], pairs)) or b"/"
