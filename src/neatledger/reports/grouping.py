"""Groups that would do, and groups in need of tidying."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Protocol

from neatledger.core.grouping.cover import Cover
from neatledger.core.lists.rights import Level
from neatledger.core.tree.address import Address
from neatledger.formats.names import show_address
from neatledger.reports.report import Aside, Column, Report, Row, Show, count_of, hide

__all__ = ["suggestions_report"]

_MOST_GRANTS = 4


class _Suggestion(Protocol):
    @property
    def system(self) -> str: ...
    @property
    def kind(self) -> str: ...
    @property
    def groups(self) -> tuple[str, ...]: ...
    @property
    def people(self) -> tuple[str, ...]: ...
    @property
    def text(self) -> str: ...
    @property
    def grants(self) -> Mapping[Address, Level]: ...
    @property
    def gains(self) -> Mapping[str, tuple[Address, ...]]: ...


_COLUMNS = (
    Column("number", "NR", number=True),
    Column("kind", "WHAT"),
    Column("system", "SYSTEM"),
    Column("text", "GROUP", wraps=True),
    Column("count", "PEOPLE", number=True),
    Column("grants", "GIVES", wraps=True),
    Column("gains", "WHO GAINS", wraps=True),
    Column("groups", "", Show.MACHINE),
    Column("people", "", Show.MACHINE),
    Column("all_grants", "", Show.MACHINE),
)


def suggestions_report(
    suggestions: Sequence[_Suggestion], covers: Mapping[str, tuple[int, int, Cover]], left_out: int, when: str
) -> Report:
    """Show suggestions with numbers; `covers` are by system: groups that grant today, entries by name, a cover."""
    rows: list[Row] = []
    shown: list[Row] = []
    for number, one in enumerate(suggestions, start=1):
        grants = [f"{level.value} {show_address(address)}" for address, level in one.grants.items()]
        few = grants[:_MOST_GRANTS] + (
            [f"and {len(grants) - _MOST_GRANTS} more"] if len(grants) > _MOST_GRANTS else []
        )
        gains = "; ".join(f"{person}: {', '.join(map(show_address, some))}" for person, some in one.gains.items())
        row: Row = {"number": number, "kind": one.kind, "system": one.system, "text": one.text}
        row = {**row, "count": len(one.people), "grants": ", ".join(few), "gains": gains}
        row = {**row, "groups": one.groups, "people": one.people, "all_grants": tuple(grants)}
        rows.append(row)
        shown.append(row)
    notes = [_sure(system, *cover) for system, cover in covers.items()]
    notes.append(Aside("groups --suggest N shows what one does; --steps FILE writes its steps, for mend FILE."))
    if left_out:
        notes.append(f"{left_out:,} more groups are not shown: the larger ones first.")
    would = sum(one.kind == "would do" for one in suggestions) + left_out
    odd = sum(one.kind not in ("would do", "stays by name") for one in suggestions)
    headline = f"{count_of(would, 'group')} would do; {count_of(odd, 'more suggestion')} (count of {when})."
    columns = _COLUMNS if any(one.gains for one in suggestions) else hide(_COLUMNS, "gains")
    return Report("suggestions", headline, columns, rows, notes, "nothing to suggest", shown)


def _sure(system: str, today: int, by_name: int, cover: Cover) -> str:
    would = sum(len(one.people) > 1 for one in cover.groups)
    alone = len({person for one in cover.groups if len(one.people) == 1 for person in one.people})
    text = f"{system}: {count_of(today, 'group')} and {count_of(by_name, 'entry')} by name today"
    if not cover.is_fewest and len(cover.groups) > today + by_name:
        return f"{text}; of so many people and folders not everything was tried, and nothing better was found."
    if cover.is_by_name:
        return f"{text}; no fewer groups than people would do: each would have one for what nobody else has."
    text += f"; {would} would do"
    text += f" with what {count_of(alone, 'person')} {'has' if alone == 1 else 'have'} by name" if alone else ""
    if cover.is_fewest:
        text += ", and no fewer"
    else:
        text += "; of so many people and folders not everything was tried, and there may be fewer"
        text += f" ({len(cover.groups)} with those of one person, and no fewer than {cover.at_least})"
    gaining = f", {', '.join(cover.gains)} gaining something" if cover.gains else ""
    return f"{text}{gaining}."
