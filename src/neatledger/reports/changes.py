"""Two states of access beside each other: what each person gained and lost, and where."""

from __future__ import annotations

from collections.abc import Sequence

from neatledger.core.access.everyone import FLAG_RIGHTS, flag_rights
from neatledger.core.lists.rights import Right, level_of, spell_rights
from neatledger.core.tree.address import Address
from neatledger.reports.report import Cell, Column, Report, count_of

__all__ = ["Held", "changes_report"]

Held = dict[str, dict[bytes, dict[str, int]]]
"""System → path → person → flags of rights (see `core.everyone`)."""

# Whether a folder itself may be removed hangs on the folder above; that alone parts no rows.
_REMOVAL = 1 << FLAG_RIGHTS.index(Right.DELETE)
_COLUMNS = (
    Column("person", "PERSON", cuts=True),
    Column("folder", "FOLDER", cuts=True),
    Column("before", "BEFORE"),
    Column("after", "AFTER"),
    Column("gained", "GAINED"),
    Column("lost", "LOST"),
    Column("below", "FOLDERS", number=True),
)


def changes_report(older: Held, newer: Held, then: str, now: str) -> Report:
    """Make the report: a row a person and topmost folder whose change goes down to all that changed alike."""
    rows: list[Sequence[Cell]] = []
    for system in dict.fromkeys([*older, *newer]):
        rows += _system_rows(system, older.get(system, {}), newer.get(system, {}))
    rows.sort(key=lambda row: (str(row[0]), row[1]))
    people = len({row[0] for row in rows})
    headline = f"{count_of(people, 'person')} gained or lost access between {then} and {now}."
    return Report("changes", headline, _COLUMNS, rows, empty="nobody gained or lost anything")


def _system_rows(
    system: str, older: dict[bytes, dict[str, int]], newer: dict[bytes, dict[str, int]]
) -> list[list[Cell]]:
    """Return the rows of one system; a folder that is on one side only gives and takes all."""
    tops: dict[tuple[str, bytes], list[Cell]] = {}
    under: dict[tuple[str, bytes], tuple[tuple[int, int], list[Cell]]] = {}
    for path in sorted({*older, *newer}, key=lambda path: path.split(b"/")):
        before, after = older.get(path, {}), newer.get(path, {})
        above = path.rpartition(b"/")[0] or b"/"
        for person in before.keys() | after.keys():
            pair = before.get(person, 0), after.get(person, 0)
            if pair[0] == pair[1]:
                continue
            known = under.get((person, above)) if path != b"/" else None
            alike = pair[0] & ~_REMOVAL, pair[1] & ~_REMOVAL
            if known and known[0] == alike:
                row = known[1]
                row[-1] = int(str(row[-1])) + 1
            else:
                row = tops[person, path] = _row(system, person, path, flag_rights(pair[0]), flag_rights(pair[1]))
            under[person, path] = alike, row
    return list(tops.values())


def _row(system: str, person: str, path: bytes, before: Right, after: Right) -> list[Cell]:
    gained, lost = spell_rights(after & ~before), spell_rights(before & ~after)
    words = [level_of(before).value, level_of(after).value]
    return [person, Address(system, path), *words, gained, lost, 1]
