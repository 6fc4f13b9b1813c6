"""What the plan says of a person or a folder; and what it names that no system knows."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Protocol

from neatledger.reports.assurances import assured
from neatledger.reports.report import Aside, Column, Report, Row, Show, count_of

__all__ = ["plan_check_report", "saying_report"]


class _Saying(Protocol):
    @property
    def about(self) -> str: ...
    @property
    def says(self) -> str: ...
    @property
    def people(self) -> tuple[str, ...]: ...
    @property
    def stands(self) -> str: ...
    @property
    def line(self) -> int: ...


class _Unmatched(Protocol):
    @property
    def what(self) -> str: ...
    @property
    def name(self) -> str: ...
    @property
    def system(self) -> str: ...
    @property
    def line(self) -> int: ...
    @property
    def nearest(self) -> tuple[str, ...]: ...


_MOST_NAMES = 6


def saying_report(name: str, sayings: Sequence[_Saying]) -> Report:
    """Show what the plan says of somebody or some folder, in the order of the parts of a plan."""
    columns: tuple[Column, ...] = (
        Column("about", "ABOUT"),
        Column("says", "THE PLAN SAYS", wraps=True),
        Column("of", "THAT IS", Show.PEOPLE, wraps=True, spare=True),
        Column("stands", "AT", wraps=True),
        Column("line", "LINE", number=True),
        Column("people", "", Show.MACHINE),
    )
    rows: list[Row] = []
    for one in sayings:
        few = ", ".join(one.people[:_MOST_NAMES])
        more = len(one.people) - _MOST_NAMES
        of = f"{few} and {more} more" if more > 0 else few
        row: Row = {"about": one.about, "says": one.says, "of": of, "stands": one.stands, "line": one.line}
        rows.append({**row, "people": one.people})
    if not any(one.people for one in sayings):
        columns = tuple(one for one in columns if one.key != "of")
    return Report("plan", f"What the plan says of {name}:", columns, rows, [], "nothing: no line speaks of it")


def plan_check_report(
    parts: Sequence[tuple[int, str]],
    unmatched: Sequence[_Unmatched] | None,
    when: str,
    uncounted: Sequence[str] = (),
) -> Report:
    """Say that a plan has no faults, how much it is, and which of its names no system knows (None: no count yet).

    `uncounted` are the systems of the plan that no count has.
    """
    columns = (
        Column("line", "LINE", number=True),
        Column("what", "WHAT"),
        Column("name", "NAME", cuts=True),
        Column("system", "SYSTEM"),
        Column("nearest", "THERE IS", wraps=True),
    )
    rows: list[Row] = [
        {"line": one.line, "what": one.what, "name": one.name, "system": one.system, "nearest": one.nearest}
        for one in unmatched or ()
    ]
    headline = f"The plan has no faults: {', '.join(count_of(*one) for one in parts)}."
    if unmatched is None:
        note = Aside("Whether the systems know what it names is not looked at: no count yet (neatledger count).")
        return Report("plan", headline, columns, rows, [note], "")
    if rows:
        headline += f" {count_of(len(rows), 'name')} in it {'is' if len(rows) == 1 else 'are'} not there "
        headline += f"(count of {when})."
    notes = [f"Not looked up, for no count has {name}: what it names there." for name in uncounted]
    said = assured("plan-names", not rows, "", when=when)
    return Report("plan", headline, columns, said.or_rows(rows), notes, said.text, is_assured=said.is_assured)
