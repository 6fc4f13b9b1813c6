"""The fewest changes for what is wanted, what comes of them, and for whom there are none."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Protocol

from neatledger.core.lists.contract import Names
from neatledger.core.steps.contract import Step
from neatledger.core.tree.address import Address
from neatledger.formats.names import show_address
from neatledger.reports.assurances import Said, assured
from neatledger.reports.change_words import change_cells
from neatledger.reports.plan_words import PlanWord, plan_notes
from neatledger.reports.report import Aside, Column, Report, Row, Show, count_of
from neatledger.reports.supposed import Changed

__all__ = ["want_report"]


class _Change(Protocol):
    @property
    def of(self) -> str: ...
    @property
    def is_entry(self) -> bool: ...
    @property
    def steps(self) -> tuple[Step, ...]: ...


class _Cannot(Protocol):
    @property
    def person(self) -> str: ...
    @property
    def why(self) -> str: ...


class _Wanted(Protocol):
    @property
    def address(self) -> Address: ...
    @property
    def changes(self) -> Sequence[_Change]: ...
    @property
    def effects(self) -> Sequence[Changed]: ...
    @property
    def beside(self) -> Sequence[Changed]: ...
    @property
    def cannot(self) -> Sequence[_Cannot]: ...
    @property
    def already(self) -> Sequence[str]: ...
    @property
    def tried(self) -> int: ...
    @property
    def is_whole(self) -> bool: ...


_COLUMNS = (
    Column("what", "WHAT"),
    Column("who", "WHO", cuts=True),
    Column("where", "WHERE", cuts=True),
    Column("text", "CHANGE", wraps=True),
    Column("steps", "STEPS", number=True),
    Column("before", "BEFORE"),
    Column("after", "AFTER"),
    Column("folders", "FOLDERS", number=True, spare=True),
    Column("files", "FILES", number=True, spare=True),
    Column("size", "", Show.MACHINE),
    Column("gained", "", Show.MACHINE),
    Column("lost", "", Show.MACHINE),
)
_EMPTY = dict.fromkeys(("text", "steps", "before", "after", "folders", "files", "size", "gained", "lost"), "")


def want_report(
    found: _Wanted, names: Callable[[str], Names], words: Sequence[PlanWord], when: str, kept: str
) -> Report:
    """Show the changes first, then who has what by them, then what else changes and who cannot be helped.

    `words` are what the plan would have to say; `kept` is the file of the steps.
    """
    rows: list[Row] = []
    for one in found.changes:
        first = one.steps[0]
        text = first.word(names(first.system))
        more = len(one.steps) - 1
        text += f", and the same on {more} below" if more else ""
        row: Row = {**_EMPTY, "what": "entry" if one.is_entry else "membership", "who": one.of, "text": text}
        rows.append({**row, "where": first.place or first.system, "steps": len(one.steps)})
    for word, some in (("then", found.effects), ("besides", found.beside)):
        for each in some:
            row = {**_EMPTY, "what": word, "who": each.person, "where": each.address}
            rows.append({**row, **change_cells(each.change)})
    rows += [{**_EMPTY, "what": "cannot", "who": one.person, "where": "", "text": one.why} for one in found.cannot]
    notes = [f"Already so: {', '.join(found.already)}."] if found.already else []
    notes += plan_notes(words)
    if not found.is_whole:
        notes.append("With so many groups not every larger set was tried: there may be fewer changes.")
    if found.changes:
        do = f"mend {kept} --carry-out makes them" if kept else "how … --steps FILE writes the steps for mend"
        notes.append(Aside(f"{do}. Nothing was changed."))
    said = _headline(found)
    headline = f"{said.text} (count of {when})."
    return Report("want", headline, _COLUMNS, rows, notes, "no change", is_assured=said.is_assured)


def _headline(found: _Wanted) -> Said:
    where = show_address(found.address)
    if not found.changes:
        return assured("want", not found.cannot, f"Nobody can be given that on {where}", where=where)
    return Said(_headline_of_changes(found, where), False)


def _headline_of_changes(found: _Wanted, where: str) -> str:
    count = count_of(len(found.changes), "change")
    verb = "gives" if len(found.changes) == 1 else "give"
    if not found.beside and not found.cannot:
        changing = "changes" if len(found.changes) == 1 else "change"
        return f"{count} {verb} just that on {where}, and {changing} nothing else for anybody"
    others, lacking = {one.person for one in found.beside}, len(found.cannot)
    if not others:
        return f"{count_of(lacking, 'person')} cannot be given that on {where}; for the others {count}"
    text = f"Nothing gives just that on {where}; the nearest is {count}, by which {count_of(len(others), 'person')} "
    text += f"{'has' if len(others) == 1 else 'have'} more or less elsewhere too"
    return f"{text}; {count_of(lacking, 'person')} cannot be given it" if lacking else text
