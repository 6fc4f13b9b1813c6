"""The split as rows, and as what a plan would say of it: what may be lost, copies, bands and limits, with reasons."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import timedelta
from typing import Any, Protocol

from neatledger.core.drafting.folders import Question
from neatledger.core.drafting.protection import SplitGroup, SplitPart
from neatledger.core.plan.protection import show_duration
from neatledger.core.space.sizes import show_between, spell_size
from neatledger.core.tree.address import Address
from neatledger.formats.names import show_address
from neatledger.reports.report import Aside, Column, Report, Row, Show, Size, count_of

__all__ = ["split_additions", "split_report"]

_COLUMNS = (
    Column("rhythm", "RHYTHM"),
    Column("where", "WHERE", cuts=True),
    Column("size_bytes", "SIZE", number=True),
    Column("loss", "MAY LOSE"),
    Column("loss_minutes", "LOSS_MINUTES", Show.MACHINE, number=True),
    Column("by", "BECAUSE", wraps=True),
    Column("every", "COPIES", spare=True),
    Column("keep", "KEPT"),
    Column("snapshots", "SNAPSHOTS", spare=True),
    Column("pool", "ON", spare=True),
    Column("year", "IN A YEAR", Show.PEOPLE, number=True),
    Column("least_bytes", "LEAST_BYTES", Show.MACHINE, number=True),
    Column("most_bytes", "MOST_BYTES", Show.MACHINE, number=True),
)
_ROOM = 1.25
"""A limit leaves so much more room than the copies take at most, for a tree grows unevenly."""


class Placed(Protocol):
    """Folders that belong together, and the pool with room for their copies."""

    @property
    def group(self) -> SplitGroup: ...
    @property
    def pool(self) -> str: ...
    @property
    def left(self) -> int | None: ...
    @property
    def place(self) -> Address | None: ...


def split_report(groups: Sequence[Placed], questions: Sequence[Question], when: str) -> Report:
    """Show folder by folder to which rhythm it belongs; the first of a group tells what the group takes."""
    rows = [_row(one, number, part) for one in groups for number, part in enumerate(one.group.parts)]
    headline = (
        f"{count_of(len(groups), 'group')} of folders that change alike, {count_of(len(rows), 'folder')} in all "
        f"(count of {when})."
    )
    notes: list[str] = [
        Aside("COPIES are on another disk; IN A YEAR is what those of the whole group take then."),
        Aside("draft --only protection --text prints it for the plan, --write adds it."),
    ]
    notes += [f"{_place(one.place)}: {one.text}" for one in questions]
    return Report("split", headline, _COLUMNS, rows, notes, "no system with files was counted")


def _place(place: Address | str) -> str:
    return show_address(place) if isinstance(place, Address) else place


def _row(one: Placed, number: int, part: SplitPart) -> Row:
    group, is_first = one.group, number == 0
    snapshots = group.snapshots
    without = f"; without {', '.join(map(show_address, part.without))}" if part.without else ""
    return {
        "rhythm": group.rhythm.name.replace("-", " ") if is_first else "",
        "where": part.use.address,
        "size_bytes": Size(part.use.size),
        "loss": show_duration(part.loss),
        "loss_minutes": int(part.loss / timedelta(minutes=1)),
        "by": part.why + without,
        "every": show_duration(group.every) if is_first else "",
        "keep": show_duration(group.keep) if is_first else "",
        "snapshots": _snapshots_words(snapshots) if snapshots and is_first else "",
        "pool": (group.by or one.pool or "?") if is_first else "",
        "year": show_between(group.least, group.most) if is_first else "",
        "least_bytes": Size(group.least) if is_first else None,
        "most_bytes": Size(group.most) if is_first else None,
    }


def _snapshots_words(snapshots: tuple[timedelta, timedelta]) -> str:
    every, keep = snapshots
    return f"each {show_duration(every)}, kept {show_duration(keep)}"


def split_additions(groups: Sequence[Placed]) -> dict[str, dict[str, tuple[Any, str]]]:
    """Return what a plan would say of it: part → key → what, and why; `[]` ends the part that is a list.

    Folders whose names are no text cannot be said and are left out.
    """
    found: dict[str, dict[str, tuple[Any, str]]] = {"protection": {}, "bands": {}, "limits/folders": {}}
    for one in groups:
        parts = [part for part in one.group.parts if _text(part.use.address) is not None]
        for part in parts:
            if not part.is_said:
                found["protection"][_key(part.use.address)] = {"loss": show_duration(part.loss)}, part.why
        if parts and not one.group.by:
            _add_rules(found, one, parts)
    return found


def _add_rules(found: dict[str, dict[str, tuple[Any, str]]], one: Placed, parts: Sequence[SplitPart]) -> None:
    group = one.group
    name = group.name
    takes = f"{show_between(group.least, group.most)} in a year"
    backup: dict[str, Any] = {"name": name, "of": tuple(_text(part.use.address) for part in parts)}
    without = tuple(text for part in parts for place in part.without if (text := _text(place)) is not None)
    if without:
        backup["without"] = without
    if one.pool:
        backup["disk"] = one.pool
    place = None if one.place is None or _text(one.place) is None else _key(one.place)
    if place:
        backup["at"] = place
    backup |= {"every": show_duration(group.every), "keep": show_duration(group.keep)}
    found.setdefault(f"systems/{group.system}/protection/backups[]", {})[name] = backup, takes
    if group.snapshots is not None:
        every, keep = map(show_duration, group.snapshots)
        rules = found.setdefault(f"systems/{group.system}/protection/snapshots[]", {})
        for part in parts:
            path = _text(part.use.address)
            rules[f"{path}"] = {"of": path, "where": "/.snapshots", "every": every, "keep": keep}, part.why
    if place:
        limit = {"limit": spell_size(_rounded(int(group.most * _ROOM))), "rule": "watched"}
        found["bands"][f"copies-{name}"] = limit, f"the copies take {takes}; {one.pool} has room"
        found["limits/folders"][place] = {"band": f"copies-{name}"}, "made for the copies"


def _rounded(size: int) -> int:
    """Return a size rounded up to two digits."""
    step: int = 10 ** max(0, len(str(size)) - 2)
    return -(-size // step) * step


def _text(address: Address) -> str | None:
    try:
        return address.path.decode()
    except UnicodeDecodeError:
        return None


def _key(address: Address) -> str:
    return f"{address.system}:{_text(address)}"
