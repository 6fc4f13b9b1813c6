"""Somebody who leaves: what hangs on them, who takes it over, the days, and the steps."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import date
from typing import Protocol

from neatledger.core.posts.clocks import Clocks
from neatledger.core.tree.address import Address
from neatledger.reports.report import Column, Report, Row, count_of

__all__ = ["hanging_rows", "leaving_days", "leaving_report"]

_COLUMNS = (
    Column("what", "WHAT"),
    Column("place", "WHERE", cuts=True),
    Column("value", "VALUE", wraps=True),
    Column("to", "GOES TO"),
    Column("because", "WHEN", wraps=True),
)


class _Hanging(Protocol):
    @property
    def what(self) -> str: ...
    @property
    def place(self) -> Address | str: ...
    @property
    def detail(self) -> str: ...
    @property
    def needs_successor(self) -> bool: ...


def hanging_rows(hanging: Sequence[tuple[_Hanging, str]]) -> list[Row]:
    """Return what hangs on somebody as rows; what nobody takes over yet comes first."""
    ranked = sorted(hanging, key=lambda one: not (one[0].needs_successor and not one[1]))
    return [
        {
            "what": one.what,
            "place": one.place,
            "value": one.detail,
            "to": who or ("NOBODY YET" if one.needs_successor else ""),
            "because": "",
        }
        for one, who in ranked
    ]


def leaving_days(last_day: date, clocks: Clocks, heir: str) -> list[Row]:
    """Return the days of a leaver as rows."""
    days = (
        ("last day", last_day, "they work; after it their accounts are closed"),
        ("hand-over", clocks.hand_over, f"until then {heir or 'a successor'} may read what they left"),
        ("keeping", clocks.keep, "until then all is kept; then a person removes it, never the tool"),
    )
    return [{"what": what, "place": "", "value": text, "to": "", "because": str(day)} for what, day, text in days]


def leaving_report(name: str, rows: Sequence[Row], missing: int, last_day: date, notes: Sequence[str]) -> Report:
    """Show all of it."""
    without = (
        f"{count_of(missing, 'thing')} that nobody takes over yet" if missing else "somebody takes over all of it"
    )
    return Report("leaving", f"{name} leaves on {last_day}: {without}.", _COLUMNS, rows, list(notes))
