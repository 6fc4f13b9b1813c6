"""Two states of access beside each other: what each person gained and lost, and where."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Protocol, TypeVar

from neatledger.core.access.comparing import AccessChange
from neatledger.core.tree.address import Address
from neatledger.reports.assurances import assured
from neatledger.reports.change_words import change_cells, what_changes
from neatledger.reports.report import Column, Report, Row, Show, count_of

__all__ = ["changes_report"]

_COLUMNS = (
    Column("what_word", "WHAT", Show.PEOPLE),
    Column("person", "WHO", wraps=True),
    Column("folder", "WHERE", cuts=True),
    Column("before", "BEFORE", wraps=True),
    Column("after", "AFTER", wraps=True),
    Column("gained", "GAINED", Show.MACHINE),
    Column("lost", "LOST", Show.MACHINE),
    Column("with_files", "FILES", wraps=True),
    Column("below", "FOLDERS", number=True, spare=True),
    Column("why", "BY WHAT", wraps=True),
    Column("planned", "BY THE PLAN", wraps=True),
    Column("what", "", Show.MACHINE),
)

_MOST_EXPLAINED = 200


class Changed(Protocol):
    """What changed for one person on a folder and below."""

    @property
    def address(self) -> Address: ...
    @property
    def change(self) -> AccessChange: ...


C = TypeVar("C", bound=Changed)


class Why(Protocol):
    """Why somebody's access changed, and what the plan says to it."""

    @property
    def causes(self) -> Sequence[str]: ...
    @property
    def planned(self) -> str: ...


class Other(Protocol):
    """One thing beside access that is other than it was."""

    @property
    def what(self) -> str: ...
    @property
    def place(self) -> Address | str: ...
    @property
    def who(self) -> str: ...
    @property
    def before(self) -> str: ...
    @property
    def after(self) -> str: ...


def changes_report(
    changes: Sequence[C],
    then: str,
    now: str,
    why: Callable[[C], Why] | None = None,
    others: Sequence[Other] = (),
    left_out: Sequence[str] = (),
) -> Report:
    """Make the report: a row a person and topmost folder whose change goes down to all that changed alike.

    `why` explains the first of them; `others` is what else changed, which comes after; `left_out` says what was not
    compared, and why.
    """
    found = sorted(changes, key=lambda one: (one.change.person, one.address))
    people = len({one.change.person for one in found if one.change.gains or one.change.loses})
    unsure = len({one.change.person for one in found if what_changes(one.change) == "not known"})
    between = f"between {then} and {now}" if then != now else f"between two counts of {now}"
    headline = f"{count_of(people, 'person')} gained or lost access {between}"
    headline += f"; of {count_of(unsure, 'person')} it is not known" if unsure else ""
    more = f"; {count_of(len(others), 'other thing')} changed" if others else ""
    headline += f"{more}; not everything was compared" if left_out else more
    said = assured("changes", not found and not left_out, headline, between=between, others=more)
    rows: list[Row] = []
    for number, one in enumerate(found):
        told = why(one) if why is not None and number < _MOST_EXPLAINED else None
        words = "; ".join(told.causes) or "the counts do not tell" if told else ""
        rows.append({**_row(one), "why": words, "planned": told.planned if told else ""})
    rows += [_other_row(one) for one in others]
    notes = []
    if why is not None and len(found) > _MOST_EXPLAINED:
        notes.append(f"By what is told of the first {_MOST_EXPLAINED} of {len(found):,} changes of access.")
    notes += left_out
    empty = "nothing that was compared is other than it was"
    return Report("changes", f"{said.text}.", _COLUMNS, rows, notes, empty, is_assured=said.is_assured)


def _row(one: Changed) -> Row:
    cells = change_cells(one.change)
    return {
        "what_word": "access",
        "what": "access",
        "person": one.change.person,
        "folder": one.address,
        "before": cells["before"],
        "after": cells["after"],
        "gained": cells["gained"],
        "lost": cells["lost"],
        "with_files": cells["with_files"],
        "below": one.change.folders,
    }


def _other_row(one: Other) -> Row:
    row: Row = {
        "what_word": one.what,
        "what": one.what,
        "person": one.who,
        "folder": one.place,
        "before": one.before,
        "after": one.after,
        "gained": "",
        "lost": "",
        "with_files": "",
        "below": "",
        "why": "",
        "planned": "",
    }
    return row
