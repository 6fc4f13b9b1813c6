"""What is to be told to whom, and what was told."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime
from typing import Protocol

from neatledger.reports.assurances import assured
from neatledger.reports.report import Aside, Column, Report, Row, count_of, hide

__all__ = ["notices_report"]

_COLUMNS = (
    Column("state", "STATE"),
    Column("who", "TO"),
    Column("about", "ABOUT"),
    Column("text", "WHAT", wraps=True),
    Column("since", "SINCE"),
    Column("why", "BY", wraps=True),
    Column("address", "ADDRESS", spare=True),
)


class _Word(Protocol):
    @property
    def value(self) -> str: ...


class _Item(Protocol):
    @property
    def text(self) -> str: ...


class _Told(Protocol):
    @property
    def event(self) -> _Word: ...
    @property
    def moment(self) -> datetime: ...
    @property
    def facts(self) -> object: ...


class _Notice(Protocol):
    @property
    def about(self) -> _Word: ...
    @property
    def person(self) -> str: ...
    @property
    def address(self) -> str: ...
    @property
    def items(self) -> Sequence[_Item]: ...
    @property
    def why(self) -> str: ...
    @property
    def state(self) -> _Told | None: ...


_WORDS = {"begun": "not known", "sent": "told", "written": "written"}
_FEW = 3


def notices_report(
    due: Sequence[_Notice], told: Sequence[_Notice], unreached: Sequence[_Notice], notes: Sequence[str | Aside]
) -> Report:
    """Show what is due first, then what reaches nobody, then what was told."""
    rows = [_row("due", one) for one in due] + [_row("no address", one) for one in unreached]
    rows += [_row(_WORDS.get(one.state.event.value, one.state.event.value) if one.state else "", one) for one in told]
    headline = f"{count_of(len(due), 'mail')} due; {len(told)} told already."
    if unreached:
        headline += f" {count_of(len(unreached), 'mail')} would reach nobody: the plan says no address."
    columns = _COLUMNS if told else hide(_COLUMNS, "since")
    said = assured("notices", not rows, "")
    return Report(
        "notices", headline, columns, said.or_rows(rows), list(notes), said.text, is_assured=said.is_assured
    )


def _row(state: str, one: _Notice) -> Row:
    texts = [each.text for each in one.items]
    more = [f"and {len(texts) - _FEW} more"] if len(texts) > _FEW else []
    return {
        "state": state,
        "who": one.person,
        "about": one.about.value,
        "text": "; ".join(texts[:_FEW] + more),
        "since": f"{one.state.moment:%Y-%m-%d}" if one.state else "",
        "why": one.why,
        "address": one.address,
    }
