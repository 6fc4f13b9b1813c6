"""Today and as it would be, side by side."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from neatledger.core.plan.limits import UNLIMITED, Limit
from neatledger.core.space.forecast import Outlook
from neatledger.core.space.limit_table import LimitStatus
from neatledger.core.space.promises import Promise
from neatledger.core.space.room import Room
from neatledger.core.space.sizes import NO_LIMIT, show_limit, show_size
from neatledger.reports.forecast import full_words
from neatledger.reports.report import Cell, Column, Report, Row, Show, Size, count_of
from neatledger.reports.space import place_words, target_cell

__all__ = [
    "Beside",
    "outlooks_beside",
    "promises_beside",
    "rooms_beside",
    "statuses_beside",
    "suppose_report",
]

_COLUMNS = (
    Column("what", "WHAT"),
    Column("place", "PLACE", Show.MACHINE),
    Column("place_words", "PLACE", Show.PEOPLE, cuts=True),
    Column("today", "TODAY", number=True),
    Column("then", "THEN", number=True),
    Column("change", "CHANGE", wraps=True),
    Column("today_bytes", "", Show.MACHINE),
    Column("then_bytes", "", Show.MACHINE),
)


@dataclass(frozen=True, slots=True)
class Beside:
    """One thing today and then, in words and as amounts (None where it is none); `place` is what it is of."""

    what: str
    place: Cell
    today: str
    then: str
    change: str = ""
    amounts: tuple[Limit | None, Limit | None] = (None, None)


def _change(before: Limit | None, after: Limit | None) -> str:
    if not isinstance(before, int) or not isinstance(after, int):
        return ""
    sign = "+" if after > before else ""
    return f"{sign}{show_size(after - before)}"


def statuses_beside(before: Sequence[LimitStatus], after: Sequence[LimitStatus]) -> list[Beside]:
    """Return the limits and what is left of them, for the places where either changes."""
    known = {(line.target.on, line.target.key): line for line in before}
    found = []
    for line in after:
        was = known.get((line.target.on, line.target.key))
        place = target_cell(line)
        limit, left = line.settings.limit, line.left
        if was is None:
            found.append(Beside("limit", place, "-", show_limit(limit), "new", (None, limit)))
            continue
        if was.settings.limit != limit:
            before_it = was.settings.limit
            change = _change(before_it, limit)
            found.append(Beside("limit", place, show_limit(before_it), show_limit(limit), change, (before_it, limit)))
        if was.amount != line.amount:
            today, then, change = show_size(was.amount), show_size(line.amount), _change(was.amount, line.amount)
            found.append(Beside("used", place, today, then, change, (was.amount, line.amount)))
        if was.left != left:
            today, then = ("no limit" if each is None else show_size(each) for each in (was.left, left))
            below = "below what is used" if left is not None and left < 0 else ""
            found.append(Beside("left", place, today, then, below or _change(was.left, left), (was.left, left)))
    return found


def promises_beside(before: Sequence[Promise], after: Sequence[Promise]) -> list[Beside]:
    """Return what pools promise, where that changes."""
    known = {promise.pool: promise for promise in before}
    found = []
    for promise in after:
        was = known.get(promise.pool)
        if was is not None and (was.promised, was.size) == (promise.promised, promise.size):
            continue
        message = (
            "overcommitted by " + show_size(promise.beyond)
            if promise.beyond
            else _change(was.promised if was else 0, promise.promised)
        )
        today = _of(was) if was else "-"
        amounts = (was.promised if was else None, promise.promised)
        found.append(Beside("promised", f"pool {promise.pool}", today, _of(promise), message, amounts))
    return found


def _of(promise: Promise) -> str:
    return show_size(promise.promised) + (f" of {show_size(promise.size)}" if promise.size is not None else "")


def suppose_report(found: Sequence[Beside], sentences: Sequence[str], notes: Sequence[str], when: str) -> Report:
    """Show everything that would change, in the order room, dates, promises, use, limits, what is left."""
    order = {"room": 0, "full": 1, "promised": 2, "used": 3, "limit": 4, "left": 5}
    ordered = sorted(found, key=lambda each: order.get(each.what, 9))
    rows: list[Row] = [
        {
            "what": one.what,
            "place": one.place,
            "place_words": place_words(one.place),
            "today": one.today,
            "then": one.then,
            "change": one.change,
            **{key: _amount(each) for key, each in zip(("today_bytes", "then_bytes"), one.amounts, strict=True)},
        }
        for one in ordered
    ]
    headline = (
        f"Suppose {' and '.join(sentences)}: {count_of(len(rows), 'figure')} would change, as counted on {when}."
    )
    return Report("suppose", headline, _COLUMNS, rows, [*notes, "Nothing was changed."], "nothing would change")


def rooms_beside(before: Room, after: Room) -> list[Beside]:
    """Return the room of a person in a folder, where that changes."""
    today, then = map(_say_room, (before, after))
    amounts = (before.left, after.left)
    return [Beside("room", f"{before.person} in {before.folder}", today, then, "", amounts)] if today != then else []


def _amount(each: Limit | None) -> Cell:
    return NO_LIMIT if each is UNLIMITED else None if each is None else Size(int(each))


def _say_room(room: Room) -> str:
    return f"{show_size(room.left or 0)} ({room.stopping[0].what})" if room.stopping else "no limit known"


def outlooks_beside(outlooks: Sequence[tuple[Outlook, Outlook]]) -> list[Beside]:
    """Return the days on which changed places are full, where these change."""
    found = []
    for before, after in outlooks:
        words = full_words(before), full_words(after)
        if words[0] != words[1]:
            found.append(Beside("full", target_cell(after.status), *words))
    return found
