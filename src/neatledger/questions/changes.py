"""What access was gained and lost between two counts."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import date

from neatledger.core.access.everyone import Everyone, RowFilter
from neatledger.core.tree.table import folder_paths
from neatledger.errors import NoCountError
from neatledger.ledger.store import CountInfo
from neatledger.questions.office import Office

__all__ = ["AccessChanges", "Held", "ask"]

Held = dict[str, dict[bytes, dict[str, int]]]
"""System → path → person → flags of rights (see `core.access.everyone`)."""


@dataclass(frozen=True, slots=True)
class AccessChanges:
    """Who had what where at two counts, all ways united."""

    older: CountInfo
    newer: CountInfo
    before: Held
    after: Held


def ask(office: Office, since: date | None = None) -> AccessChanges:
    """Compare the count with an older one: of `since`, or the one before; raises `NoCountError`."""
    newer = office.count
    older = office.ledger.find_count(since) if since else _before(office, newer)
    return AccessChanges(older, newer, _held(office, older), _held(office, newer))


def _before(office: Office, newer: CountInfo) -> CountInfo:
    older = [count for count in office.ledger.counts() if (count.taken_at, count.id) < (newer.taken_at, newer.id)]
    if not older:
        raise NoCountError("there is no older count to compare with", str(office.ledger.path), "gather again later")
    return older[-1]


def _held(office: Office, count: CountInfo) -> Held:
    found: Held = {}
    systems = office.systems_of(office.readers_of(count), count.day)
    for system, principals in systems.holders.items():
        if principals:
            found[system] = _flags(systems.everyone(system, principals, is_narrow=True))
    return found


def _flags(everyone: Everyone) -> dict[bytes, dict[str, int]]:
    path_of = folder_paths(everyone.matrix.folders)
    principals = everyone.matrix.principals
    people = [principals[column.principals[0]].person if column.principals else "" for column in everyone.columns]
    found: dict[bytes, dict[str, int]] = {path_of(row): {} for row in range(everyone.matrix.folders.rows)}
    paths = list(found)
    for block in everyone.blocks(RowFilter.EVERY):
        rows = zip(block.folder.tolist(), block.column.tolist(), block.flags.tolist(), strict=True)
        for folder, column, flags in rows:
            mine = found[paths[folder]]
            mine[people[column]] = mine.get(people[column], 0) | flags
    return found
