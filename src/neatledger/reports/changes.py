"""Two states of access beside each other: what each person gained and lost, and where."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

from neatledger.core.access.comparing import REMOVAL
from neatledger.core.access.everyone import flag_rights
from neatledger.core.lists.rights import level_of, spell_rights
from neatledger.core.tree.address import Address
from neatledger.reports.report import Column, Report, Row, count_of

__all__ = ["changes_report"]

_COLUMNS = (
    Column("person", "PERSON", cuts=True),
    Column("folder", "FOLDER", cuts=True),
    Column("before", "BEFORE"),
    Column("after", "AFTER"),
    Column("gained", "GAINED"),
    Column("lost", "LOST"),
    Column("below", "FOLDERS", number=True),
)


Held = Mapping[str, Mapping[bytes, Mapping[str, int]]]


def changes_report(older: Held, newer: Held, then: str, now: str) -> Report:
    """Make the report: a row a person and topmost folder whose change goes down to all that changed alike."""
    found: list[_Change] = []
    for system in dict.fromkeys([*older, *newer]):
        found += _system_changes(system, older.get(system, {}), newer.get(system, {}))
    found.sort(key=lambda one: (one.person, one.folder))
    people = len({one.person for one in found})
    headline = f"{count_of(people, 'person')} gained or lost access between {then} and {now}."
    rows = [one.row() for one in found]
    return Report("changes", headline, _COLUMNS, rows, empty="nobody gained or lost anything")


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
