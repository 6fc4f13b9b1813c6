"""How much a person can still put in a folder: the first that stops, and everything else in its order."""

from __future__ import annotations

import re
from collections.abc import Sequence

from neatledger.core.space.room import Room, Stop
from neatledger.core.space.sizes import show_size
from neatledger.reports.report import Cell, Column, Report, Row, Show, Size

__all__ = ["room_report"]

_COLUMNS = (
    Column("order", "", number=True),
    Column("what", "WHAT", Show.MACHINE),
    Column("what_words", "WHAT", Show.PEOPLE, cuts=True),
    Column("left_bytes", "LEAVES", number=True),
    Column("stops", "BLOCKS"),
    Column("because", "BECAUSE", wraps=True),
    Column("limit_bytes", "", Show.MACHINE),
    Column("used_bytes", "", Show.MACHINE),
    Column("room_bytes", "", Show.MACHINE),
)


def room_report(room: Room, when: str) -> Report:
    """Explain the room: its rows are what it was worked out from, the first that stops first."""
    stopping = room.stopping
    where = f"{room.person} in {room.folder}"
    if not stopping:
        headline = f"{where}: nothing that is known sets a limit, as counted on {when}."
    else:
        first = stopping[0]
        headline = f"{where}: {show_size(room.left or 0)} left; {_words(first.what)} blocks first."
    if not room.is_known:
        headline = f"{headline.removesuffix('.')}; whether they may write there is not known."
    notes = _next_notes(stopping)
    if room.largest is not None:
        notes.append(f"No single file may be larger than {show_size(room.largest)}.")
    if room.barred:
        notes.append(f"Not allowed here: {', '.join(room.barred)}.")
    rows = [_row(number, stop, room) for number, stop in enumerate(room.stops, 1)]
    return Report(
        "room", headline, _COLUMNS, rows, notes, "no limit is on this folder, on this person or on its pool"
    )


def _row(number: int, stop: Stop, room: Room) -> Row:
    return {
        "order": number,
        "what": stop.what,
        "what_words": _words(stop.what),
        "left_bytes": "-" if stop.left is None else Size(stop.left),
        "stops": _stops(stop, room),
        "because": stop.because,
        "limit_bytes": _size(stop.limit),
        "used_bytes": _size(stop.used),
        "room_bytes": _size(room.left) if room.is_known else None,
    }


def _words(what: str) -> str:
    """Return what stops somebody as people speak of it: what the plan calls a pool is a disk to them."""
    return re.sub(r"\bpool\b", "disk", what)


def _stops(stop: Stop, room: Room) -> Cell:
    if stop.left is None:
        return None if stop.what == "access" and not room.is_known else "no"
    return "yes" if stop.stops else "warns"


def _size(amount: int | None) -> Cell:
    return None if amount is None else Size(amount)


def _next_notes(stopping: Sequence[Stop]) -> list[str]:
    """Say what would follow were the first lifted; those that leave the same are lifted with it."""
    if not stopping:
        return []
    first = stopping[0]
    beyond = [stop for stop in stopping if (stop.usable or 0) > (first.usable or 0)]
    alike = [_words(stop.what) for stop in stopping[1:] if stop.usable == first.usable]
    message = f"Without it{' and ' + ', '.join(alike) if alike else ''}, "
    if not beyond:
        return [message + "nothing else that is known would stop."]
    more = (beyond[0].usable or 0) - (first.usable or 0)
    return [f"{message}{_words(beyond[0].what)} would stop next, after {show_size(more)} more."]
