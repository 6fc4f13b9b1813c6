"""Everything of a system that somebody sets, thing by thing, in two states beside each other, whoever set it.

A *thing* is one account, membership, group, limit, share, team folder, link, hand-out, device, rule or folder, or the
files of one folder by their sorts. What mere use changes (sizes, times, how often a link was used) is not of it.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from typing import Any, NamedTuple, Protocol

import numpy as np
from numpy.typing import NDArray

from neatledger.core.access.row_pairs import RowPairs, rows_of_two_counts
from neatledger.core.steps.contract import FileSort, ItemState
from neatledger.core.survey.accounts import Account, Group
from neatledger.core.survey.limits import FoundLimit
from neatledger.core.survey.shared import Shared, record_to_facts
from neatledger.core.tree.columns import SeenState
from neatledger.core.tree.table import Table

__all__ = ["FilesThere", "Thing", "ThingChange", "TreeState", "file_changes", "folder_changes", "settings_of"]

Ints = NDArray[np.int64]


class Thing(NamedTuple):
    """What one thing is: its kind, and by what it is known among those of its kind."""

    kind: str
    name: str | bytes


class ThingChange(NamedTuple):
    """One thing that is otherwise in the second of two states; None on a side where it is not there."""

    thing: Thing
    before: Any
    after: Any


class Settings(Protocol):
    """What is set of a system beside its tree."""

    @property
    def accounts(self) -> Sequence[Account]: ...
    @property
    def groups(self) -> Sequence[Group]: ...
    @property
    def facts(self) -> Mapping[str, Any]: ...
    @property
    def shared(self) -> Shared | None: ...


class TreeState(Protocol):
    """A system's tree, as tables."""

    def table(self, name: str) -> Table:
        """Return a table of the tree."""

    def strings(self, name: str) -> list[bytes]:
        """Return a whole column of byte strings."""

    def idents(self) -> list[str]:
        """Return the identifiers of owners by their numbers."""


# What is told of the use of things, and not set.
_OF_USE = {"uses", "uses_left", "last_used", "last_seen", "held_bytes"}
_TERMS = ("read_only", "asks_enter", "privileges", "mount_points")


def settings_of(state: Settings) -> dict[Thing, Any]:
    """Return what is set of a system beside its tree: thing → value."""
    found: dict[Thing, Any] = {}
    for account in state.accounts:
        standing = account.state, account.may_use, account.is_entitled
        found[Thing("account", account.login)] = (*standing, account.ident, account.primary)
    for group in state.groups:
        found[Thing("group", group.name)] = group.ident
        for member in (*group.members, *(f"group {ident}" for ident in group.nested)):
            found[Thing("member", f"{group.name}\0{member}")] = True
    for fact in state.facts.get("limits", ()):
        limit = FoundLimit.of_facts(fact)
        if limit.is_told:
            key = f"{limit.on.value}\0{limit.name}"
            found[Thing("limit", key)] = (limit.limit, limit.enforced, limit.grace_days, limit.items)
    for share in state.facts.get("shares") or ():
        found[Thing("share", share["name"])] = share
    for term in _TERMS:
        if state.facts.get(term):
            found[Thing("terms", term)] = state.facts[term]
    return found | _shared_of(state)


def _shared_of(state: Settings) -> dict[Thing, Any]:
    shared = state.shared
    if shared is None:
        return {}
    found: dict[Thing, Any] = {Thing("terms", "running"): shared.is_running}
    for kind, records in (("link", shared.links), ("hand-out", shared.hand_outs), ("device", shared.devices)):
        for record in records:
            found[Thing(kind, record.id)] = _set_of(record)
    for team in shared.teams:
        found[Thing("team folder", team.path)] = _set_of(team)
    for rule in shared.rules:
        found[Thing("rule", f"{rule.on.value}\0{rule.name}")] = rule.rule
    return found


def _set_of(record: Any) -> dict[str, Any]:
    return {name: value for name, value in record_to_facts(record).items() if name not in _OF_USE}


# The tree ----------------------------------------------------------------------------------------------


class _Sides:
    """The numbers of lists and owners of two states, made those of one."""

    def __init__(self, before: TreeState, after: TreeState) -> None:
        self.bodies: dict[bytes, int] = {}
        self.idents: dict[str, int] = {}
        self.lists = [_numbered(side.strings("lists.body"), self.bodies) for side in (before, after)]
        self.owners = [_numbered(side.idents(), self.idents) for side in (before, after)]
        self._body_of = list(self.bodies)
        self._ident_of = list(self.idents)

    def body(self, number: int) -> bytes:
        """Return the body of a list by its common number."""
        return self._body_of[number]

    def ident(self, number: int) -> str:
        """Return an owner by its common number."""
        return self._ident_of[number]


def _numbered(texts: Any, known: dict[Any, int]) -> Ints:
    # One more for −1, which stands for none.
    return np.array([known.setdefault(text, len(known)) for text in texts] + [-1], dtype=np.int64)


def folder_changes(before: TreeState, after: TreeState) -> tuple[list[ThingChange], int, RowPairs]:
    """Return the folders that are otherwise, come or gone; how many cannot be compared; and all folders in pairs.

    Of one whose list was not seen on either side nothing is said. What lies in a folder that came or is gone came or
    went with it.
    """
    tables = before.table("folders"), after.table("folders")
    pairs = rows_of_two_counts(*tables)
    sides = _Sides(before, after)
    values: list[list[Ints]] = []
    for table, rows, lists, owners in zip(
        tables, (pairs.before, pairs.after), sides.lists, sides.owners, strict=True
    ):
        is_there = rows >= 0
        some = np.maximum(rows, 0)
        columns = [owners[table["owner"]], lists[table["list"]], lists[table["default"]]]
        values.append([np.where(is_there, column[some], -2) for column in columns])
    is_other = np.logical_or.reduce([one != other for one, other in zip(*values, strict=True)])
    unseen = _unseen(tables, pairs)
    is_absent = (pairs.before < 0) | (pairs.after < 0)
    # Of a folder that came, or is gone, with one that lies above it nothing more is to be said.
    with_above = is_absent & (pairs.parent >= 0) & is_absent[np.maximum(pairs.parent, 0)]
    found = []
    for place in np.flatnonzero(is_other & ~unseen & ~with_above).tolist():
        items = [_item_of([int(column[place]) for column in side], sides) for side in values]
        found.append(ThingChange(Thing("folder", pairs.path_of(place)), *items))
    return found, int(unseen.sum()), pairs


def _unseen(tables: tuple[Table, Table], pairs: RowPairs) -> NDArray[np.bool_]:
    """Mark the folders of which a side did not see the list."""
    found = np.zeros(len(pairs.after), dtype=bool)
    for table, rows in zip(tables, (pairs.before, pairs.after), strict=True):
        found |= (rows >= 0) & (table["state"][np.maximum(rows, 0)] == SeenState.LIST_UNKNOWN)
    return found


def _item_of(numbers: list[int], sides: _Sides) -> ItemState | None:
    owner, body, default = numbers
    if owner == -2:
        return None
    return ItemState(
        "" if owner < 0 else sides.ident(owner),
        b"" if body < 0 else sides.body(body),
        None if default < 0 else sides.body(default),
    )


@dataclass(frozen=True, slots=True)
class FilesThere:
    """The files right in a folder: how many of each sort."""

    sorts: Mapping[FileSort, int]


def file_changes(before: TreeState, after: TreeState, pairs: RowPairs) -> Iterator[ThingChange]:
    """Yield the folders, there in both states and seen, whose files are of other sorts or other numbers."""
    sides = _Sides(before, after)
    tables = before.table("folders"), after.table("folders")
    keys = []
    for side, rows, lists, owners, state in zip(
        (before, after), (pairs.before, pairs.after), sides.lists, sides.owners, tables, strict=True
    ):
        classes = side.table("classes")
        place = np.full(state.rows, -1, dtype=np.int64)
        place[rows[rows >= 0]] = np.flatnonzero(rows >= 0)
        columns = [place[classes["folder"]], lists[classes["list"]], owners[classes["owner"]]]
        keys.append(np.column_stack([*columns, classes["files"].astype(np.int64)]))
    is_seen = np.ones(len(pairs.after), dtype=bool)
    for table, rows in zip(tables, (pairs.before, pairs.after), strict=True):
        is_seen &= (rows >= 0) & (table["state"][np.maximum(rows, 0)] == SeenState.WHOLE)
    counted = [_summed(key) for key in keys]
    for number in _places_apart(counted[0], counted[1], is_seen):
        there = [_sorts_at(side, number, sides) for side in counted]
        yield ThingChange(Thing("files", pairs.path_of(number)), *there)


def _summed(keys: Ints) -> Ints:
    """Return place, list, owner and the sum of files, a row for each distinct three, in their order."""
    if not len(keys):
        return keys
    sorts, at = np.unique(keys[:, :3], axis=0, return_inverse=True)
    totals = np.zeros(len(sorts), dtype=np.int64)
    np.add.at(totals, at.reshape(-1), keys[:, 3])
    return np.column_stack([sorts, totals])


def _places_apart(before: Ints, after: Ints, is_seen: NDArray[np.bool_]) -> list[int]:
    both = np.concatenate([before, after])
    if not len(both):
        return []
    rows, counts = np.unique(both, axis=0, return_counts=True)
    places = np.unique(rows[counts == 1][:, 0])
    return [place for place in places.tolist() if place >= 0 and is_seen[place]]


def _sorts_at(counted: Ints, place: int, sides: _Sides) -> FilesThere:
    first, last = np.searchsorted(counted[:, 0], [place, place + 1]).tolist()
    sorts: Counter[FileSort] = Counter()
    for _, body, owner, files in counted[first:last].tolist():
        sorts[FileSort("" if owner < 0 else sides.ident(owner), b"" if body < 0 else sides.body(body))] += files
    return FilesThere(sorts)
