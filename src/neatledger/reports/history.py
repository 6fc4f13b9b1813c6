"""What one person had on one folder, as a report: a row for each time that it changed."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import date
from typing import Protocol

from neatledger.core.access.ways import FileCounts
from neatledger.core.lists.rights import Right, level_of, spell_rights
from neatledger.core.tree.address import Address
from neatledger.reports.change_words import NOT_THERE
from neatledger.reports.report import Column, Report, Row, Show, count_of, day_cell

__all__ = ["history_report"]


class Change(Protocol):
    """What they had from a day on."""

    @property
    def not_before(self) -> date | None: ...
    @property
    def day(self) -> date: ...
    @property
    def rights(self) -> Right | None: ...
    @property
    def is_known(self) -> bool: ...
    @property
    def counts(self) -> FileCounts | None: ...
    @property
    def by(self) -> str: ...
    @property
    def is_there(self) -> bool: ...
    @property
    def causes(self) -> Sequence[str]: ...


class Told(Protocol):
    """One person on one folder."""

    @property
    def person(self) -> str: ...
    @property
    def address(self) -> Address: ...
    @property
    def had(self) -> Sequence[Change]: ...
    @property
    def counts(self) -> int: ...


_COLUMNS = (
    Column("after", "AFTER"),
    Column("by_day", "BY"),
    Column("level", "LEVEL"),
    Column("rights", "", Show.MACHINE),
    Column("with_files", "FILES", wraps=True),
    Column("decided", "DECIDED BY", wraps=True),
    Column("causes", "WHAT CHANGED", wraps=True),
)


def history_report(found: Told) -> Report:
    """Show what changed; of a change nothing is known but that it came between two counts."""
    rows: list[Row] = [
        {
            "after": day_cell(one.not_before),
            "by_day": one.day.isoformat(),
            "level": _level(one),
            "rights": "" if one.rights is None else spell_rights(one.rights),
            "with_files": _files(one.counts),
            "decided": one.by,
            "causes": "; ".join(one.causes),
        }
        for one in found.had
    ]
    last = found.had[-1] if found.had else None
    headline = f"{found.person} on {found.address}: nothing was counted there."
    if last is not None:
        since = f"since {last.day}"
        if last.not_before not in (None, last.day):
            since = f"since a day between {last.not_before} and {last.day}"
        over = count_of(found.counts, "count")
        has = f"no access to {found.address}" if _level(last) == "none" else f"{_level(last)} on {found.address}"
        headline = f"{found.person} has {has}, {since} ({over})."
        if _level(last) == "unknown":
            headline = f"What {found.person} has on {found.address} is not known, {since} ({over})."
        if not last.is_there:
            headline = f"{found.address} is not there, {since} ({over})."
    notes = ["Each change happened between two counts: AFTER the one and BY the other."]
    return Report("history", headline, _COLUMNS, rows, notes if len(rows) > 1 else [], "nothing was counted there")


def _files(counts: FileCounts | None) -> str:
    """Say how many files of the folder they may use; nothing where it has none, or they were not seen."""
    if counts is None or not counts.files:
        return ""
    return f"reads {counts.read:,}, changes {counts.change:,} of {counts.files:,}"


def _level(one: Change) -> str:
    if not one.is_there:
        return NOT_THERE
    if one.rights is None:
        return "none" if one.is_known else "unknown"
    return level_of(one.rights).value if one.is_known or one.rights else "unknown"
