"""Two states of access beside each other: what each person gained and lost, and where."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from typing import Protocol

from neatledger.core.access.comparing import REMOVAL
from neatledger.core.access.everyone import flag_rights
from neatledger.core.lists.rights import level_of, spell_rights
from neatledger.core.tree.address import Address
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
    Column("below", "FOLDERS", number=True, spare=True),
    Column("why", "BY WHAT", wraps=True),
    Column("planned", "BY THE PLAN", wraps=True),
    Column("what", "", Show.MACHINE),
)

_MOST_EXPLAINED = 200

Held = Mapping[str, Mapping[bytes, Mapping[str, int]]]


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
    older: Held,
    newer: Held,
    then: str,
    now: str,
    why: Callable[[str, Address], Why] | None = None,
    others: Sequence[Other] = (),
) -> Report:
    """Make the report: a row a person and topmost folder whose change goes down to all that changed alike.

    `why` explains the first of them; `others` is what else changed, which comes after.
    """
    found: list[_Change] = []
    for system in dict.fromkeys([*older, *newer]):
        found += _system_changes(system, older.get(system, {}), newer.get(system, {}))
    found.sort(key=lambda one: (one.person, one.folder))
    people = len({one.person for one in found})
    headline = f"{count_of(people, 'person')} gained or lost access between {then} and {now}"
    headline += f"; {count_of(len(others), 'other thing')} changed." if others else "."
    rows: list[Row] = []
    for number, one in enumerate(found):
        told = why(one.person, one.folder) if why is not None and number < _MOST_EXPLAINED else None
        words = "; ".join(told.causes) or "the counts do not tell" if told else ""
        rows.append({**one.row(), "why": words, "planned": told.planned if told else ""})
    rows += [_other_row(one) for one in others]
    notes = []
    if why is not None and len(found) > _MOST_EXPLAINED:
        notes.append(f"By what is told of the first {_MOST_EXPLAINED} of {len(found):,} changes of access.")
    return Report("changes", headline, _COLUMNS, rows, notes, empty="nobody gained or lost anything")


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
        "below": "",
        "why": "",
        "planned": "",
    }
    return row


@dataclass(slots=True)
class _Change:
    """What changed for one person from a folder on downwards: rights before and after, in so many folders."""

    person: str
    folder: Address
    before: int
    after: int
    below: int = 1

    def row(self) -> Row:
        before, after = flag_rights(self.before), flag_rights(self.after)
        return {
            "what_word": "access",
            "what": "access",
            "person": self.person,
            "folder": self.folder,
            "before": level_of(before).value,
            "after": level_of(after).value,
            "gained": spell_rights(after & ~before),
            "lost": spell_rights(before & ~after),
            "below": self.below,
        }


def _system_changes(
    system: str, older: Mapping[bytes, Mapping[str, int]], newer: Mapping[bytes, Mapping[str, int]]
) -> list[_Change]:
    """Return the changes on one system; a folder that is on one side only gives and takes all."""
    tops: list[_Change] = []
    under: dict[tuple[str, bytes], tuple[tuple[int, int], _Change]] = {}
    for path in sorted({*older, *newer}, key=lambda path: path.split(b"/")):
        before, after = older.get(path, {}), newer.get(path, {})
        above = path.rpartition(b"/")[0] or b"/"
        for person in before.keys() | after.keys():
            pair = before.get(person, 0), after.get(person, 0)
            if pair[0] == pair[1]:
                continue
            known = under.get((person, above)) if path != b"/" else None
            alike = pair[0] & ~REMOVAL, pair[1] & ~REMOVAL
            if known and known[0] == alike:
                change = known[1]
                change.below += 1
            else:
                change = _Change(person, Address(system, path), *pair)
                tops.append(change)
            under[person, path] = alike, change
    return tops
