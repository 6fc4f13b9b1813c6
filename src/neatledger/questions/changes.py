"""What access was gained and lost between two counts."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from dataclasses import dataclass
from datetime import date

import numpy as np
from numpy.typing import NDArray

from neatledger.core.access.comparing import UNKNOWN_FLAG, PeopleFlags
from neatledger.core.access.differences import COMPARED
from neatledger.core.access.everyone import Everyone, flag_rights
from neatledger.core.tree.address import Address
from neatledger.core.tree.table import folder_paths
from neatledger.ledger.store import CountInfo
from neatledger.questions.history import Between
from neatledger.questions.office import Office

__all__ = ["AccessChanges", "Explained", "Held", "ask", "explain"]

Held = dict[str, dict[bytes, dict[str, int]]]
"""System → path → person → flags of rights (see `core.access.everyone`)."""
_CHUNK = 8192


@dataclass(frozen=True, slots=True)
class AccessChanges:
    """Who had what where at two counts, all ways united, where it differs: on systems that both have, and saw anew.

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
    had, has = _held(office, older, newer, compared)
    return AccessChanges(older, newer, had, has, left_out)


@dataclass(frozen=True, slots=True)
class Explained:
    """Why somebody's access changed, as far as the counts tell, and what the plan of today says to it."""

    causes: tuple[str, ...]
    planned: str


def explain(office: Office, found: AccessChanges, person: str, address: Address, between: Between) -> Explained:
    """Return why a person gained or lost what they did on a folder."""
    plan = office.plan
    path = address.path
    before, after = (
        flag_rights(side.get(address.system, {}).get(path, {}).get(person, 0)) for side in (found.before, found.after)
    )
    if person not in plan.people:
        word = "the plan has no such person"
    else:
        means, _ = plan.rights_at(address, person)
        gained, lost = after & ~before & COMPARED, before & ~after & COMPARED
        beyond, missing = gained & ~means, lost & means
        said = ["more than planned"] if beyond else []
        said += ["less than planned"] if missing else []
        word = ", ".join(said) or "as planned"
    causes = between.causes(person, address)
    moved = None
    if "the folder came" in causes:
        moved = _moved_from(office, found, address)
    if moved is not None:
        causes = tuple(one.replace("the folder came", f"it was moved here from {moved}") for one in causes)
    return Explained(causes, word)


def _moved_from(office: Office, found: AccessChanges, address: Address) -> Address | None:
    """Return where a folder was before, by its inode; None where that is not known, or it is there still."""
    readers = [office.readers_of(one)[address.system] for one in (found.older, found.newer)]
    chain, missing = readers[1].find_path(address.path)
    inodes = readers[0].table("folders")["inode"]
    inode = readers[1].table("folders")["inode"][chain[-1].row]
    if missing is not None or not inode:
        return None
    path_of = folder_paths(readers[0].table("folders"))
    places = [path_of(row) for row in np.flatnonzero(inodes == inode).tolist()]
    is_left = all(readers[1].find_row(path) is None for path in places)
    return Address(address.system, places[0]) if len(places) == 1 and is_left else None


def _held(office: Office, older: CountInfo, newer: CountInfo, compared: Collection[str]) -> tuple[Held, Held]:
    """Return who had and has what where, of those alone whose rights differ."""
    before: Held = {}
    after: Held = {}
    sides = [office.systems_of(office.readers_of(count), count.day) for count in (older, newer)]
    for system in compared:
        holders = [one.holders.get(system, []) for one in sides]
        people = list(dict.fromkeys(one.person for some in holders for one in some))
        if people:
            then, now = (
                one.everyone(system, some, is_narrow=True) if some else None
                for one, some in zip(sides, holders, strict=True)
            )
            before[system], after[system] = _differing(then, now, people)
    return before, after


_Flags = dict[bytes, dict[str, int]]
_Ints = NDArray[np.int64]


def _differing(then: Everyone | None, now: Everyone | None, people: Sequence[str]) -> tuple[_Flags, _Flags]:
    """Return the flags of both sides on the folders of either where they are not the same."""
    known = [{} if one is None else _rows_by_path(one) for one in (then, now)]
    paths = list(dict.fromkeys(path for one in known for path in one))
    flags = [None if one is None else PeopleFlags(one, people) for one in (then, now)]
    rows = [np.array([one.get(path, -1) for path in paths], dtype=np.int64) for one in known]
    had: _Flags = {}
    has: _Flags = {}
    may_differ = np.arange(len(paths)) if then is None or now is None else _may_differ(then, now, *rows)
    for start in range(0, len(may_differ), _CHUNK):
        chunk = may_differ[start : start + _CHUNK]
        old, new = (
            np.zeros((len(chunk), len(people)), dtype=np.int64)
            if one is None
            else one.flags(each[chunk]) & ~UNKNOWN_FLAG
            for one, each in zip(flags, rows, strict=True)
        )
        for at, person in zip(*(each.tolist() for each in np.nonzero(old != new)), strict=True):
            path = paths[chunk[at]]
            had.setdefault(path, {})[people[person]] = int(old[at, person])
            has.setdefault(path, {})[people[person]] = int(new[at, person])
    return had, has


def _may_differ(then: Everyone, now: Everyone, old_rows: _Ints, new_rows: _Ints) -> _Ints:
    """Return the places of folders on which anybody's rights may differ: where accounts are the same, few."""
    columns = [
        [
            (column.way, [one.matrix.principals[number].account.login for number in column.principals])
            for column in one.columns
        ]
        for one in (then, now)
    ]
    if columns[0] != columns[1]:
        return np.arange(len(old_rows))
    found = [np.flatnonzero((old_rows < 0) != (new_rows < 0))]
    both = np.flatnonzero((old_rows >= 0) & (new_rows >= 0))
    for start in range(0, len(both), _CHUNK):
        chunk = both[start : start + _CHUNK]
        (had, _), (has, _) = then.rights(old_rows[chunk]), now.rights(new_rows[chunk])
        differs = np.zeros(len(chunk), dtype=bool)
        for right in had.keys() | has.keys():
            old, new = had.get(right), has.get(right)
            differs |= True if old is None or new is None else (old ^ new).any(axis=1)
        found.append(chunk[differs])
    return np.sort(np.concatenate(found))


def _rows_by_path(everyone: Everyone) -> dict[bytes, int]:
    path_of = folder_paths(everyone.matrix.folders)
    return {path_of(row): row for row in range(everyone.matrix.folders.rows)}
