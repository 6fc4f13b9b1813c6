"""What access was gained and lost between two counts."""

from __future__ import annotations

from collections.abc import Collection
from dataclasses import dataclass
from datetime import date

from neatledger.core.access.everyone import Everyone, RowFilter
from neatledger.core.tree.table import folder_paths
from neatledger.ledger.store import CountInfo
from neatledger.questions.office import Office

__all__ = ["AccessChanges", "Held", "ask"]

Held = dict[str, dict[bytes, dict[str, int]]]
"""System → path → person → flags of rights (see `core.access.everyone`)."""


@dataclass(frozen=True, slots=True)
class AccessChanges:
    """Who had what where at two counts, all ways united: on the systems that both have, and saw anew.

    `left_out` says of the others why they are not compared, and where not all was seen.
    """

    older: CountInfo
    newer: CountInfo
    before: Held
    after: Held
    left_out: list[str]


def ask(office: Office, since: date | None = None) -> AccessChanges:
    """Compare the count with an older one: of `since`, or the one before; raises `NoCountError`."""
    newer = office.count
    found = office.ledger.find_count(since) if since else office.count_before()
    older = office.ledger.carried(found, office.plan.systems)
    then = {one.system: one for one in older.surveys}
    left_out, compared = [], []
    for one in newer.surveys:
        before = then.get(one.system)
        if before is None:
            left_out.append(f"{one.system} was first counted on {one.when}: there is nothing to compare it with.")
        elif before.id == one.id:
            left_out.append(f"{one.system} was not counted after {one.when}: nothing is known of what changed since.")
        else:
            compared.append(one.system)
            if before.when != older.when:
                left_out.append(
                    f"{one.system} is compared with {before.when}, the last time before that it was counted."
                )
    known = {one.system for one in newer.surveys}
    left_out += [f"{name} is in the older count alone." for name in then if name not in known]
    for one in (*older.surveys, *newer.surveys):
        if one.system in compared and one.not_seen:
            doubt = "what hangs on it may only seem gained or lost"
            left_out.append(f"{one.system}: {one.not_seen_words} could not be seen on {one.when}: {doubt}.")
    return AccessChanges(older, newer, _held(office, older, compared), _held(office, newer, compared), left_out)


def _held(office: Office, count: CountInfo, compared: Collection[str]) -> Held:
    found: Held = {}
    systems = office.systems_of(office.readers_of(count), count.day)
    for system, principals in systems.holders.items():
        if principals and system in compared:
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
