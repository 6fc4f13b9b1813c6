"""What the plan says of a person or a folder; and what it names that no system knows."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Protocol

from neatledger.reports.assurances import assured
from neatledger.reports.report import Aside, Column, Pointer, Report, Row, Show, count_of

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


def renewed_report(changed: Sequence[str]) -> Report:
    """Say which words of the plan were spelled as it was done before, and are spelled as today now."""
    rows: list[Row] = [{"change": text} for text in changed]
    headline = f"{count_of(len(rows), 'word')} of the plan {'is' if len(rows) == 1 else 'are'} spelled as today now."
    return Report("renewed", headline if rows else "", [Column("change", "WHERE", wraps=True)], rows, [], _AS_TODAY)


_AS_TODAY = "nothing in the plan is spelled as it was before"


def plan_check_report(
    parts: Sequence[tuple[int, str]],
    unmatched: Sequence[_Unmatched] | None,
    when: str,
    uncounted: Sequence[str] = (),
    former: int = 0,
) -> Report:
    """Say that a plan has no faults, how much it is, and which of its names no system knows (None: no count yet).

    `uncounted` are the systems of the plan that no count has, `former` how many words are spelled as it was before.
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
    pointers = [Pointer(f"{count_of(former, 'word')} spelled as before", "plan --write")] if former else []
    if unmatched is None:
        note = Aside("Whether the systems know what it names is not looked at: no count yet (neatledger count).")
        return Report("plan", headline, columns, rows, [note], "", pointers=pointers)
    if rows:
        headline += f" {count_of(len(rows), 'name')} in it {'is' if len(rows) == 1 else 'are'} not there "
        headline += f"(count of {when})."
    notes = [f"Not looked up, for no count has {name}: what it names there." for name in uncounted]
    said = assured("plan-names", not rows, "", when=when)
    shown = said.or_rows(rows)
    return Report("plan", headline, columns, shown, notes, said.text, is_assured=said.is_assured, pointers=pointers)
