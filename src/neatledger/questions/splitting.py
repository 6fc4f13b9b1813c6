"""The split: which folders belong together by how they change, in which rhythm, on which pool, what it takes."""

from __future__ import annotations

import os
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta

import numpy as np
from numpy.typing import NDArray

from neatledger.core.drafting.folders import Question
from neatledger.core.drafting.protection import FolderUse, SplitGroup, split
from neatledger.core.plan.limits import UNLIMITED
from neatledger.core.plan.protection import SystemProtection, Wanted
from neatledger.core.plan.space import Sort
from neatledger.core.space.limit_table import LimitStatus, pool_of
from neatledger.core.space.sizes import show_size
from neatledger.core.trail.records import Did
from neatledger.core.tree.address import Address
from neatledger.core.tree.table import folder_paths
from neatledger.ledger.space import SpaceView
from neatledger.questions import limits
from neatledger.questions.covered import coverage_of
from neatledger.questions.office import Office
from neatledger.questions.views import load_views, view_of

__all__ = ["PlacedGroup", "Split", "ask"]

Ints = NDArray[np.int64]

_DAYS = 28  # whole weeks, for weekdays are not alike
_LEAST_DAYS = 7
_DEEPEST = 3
_MOST_FOLDERS = 40
"""Right in one folder so many are looked at, the largest; what else is there is part of the folder above."""
_SAVES = (Did.CHANGE, Did.MAKE)


@dataclass(frozen=True, slots=True)
class PlacedGroup:
    """Folders that belong together, and the pool with room for their copies: none where no other pool has any."""

    group: SplitGroup
    pool: str = ""
    left: int | None = None
    place: Address | None = None


@dataclass(frozen=True, slots=True)
class Split:
    """The groups of all systems, and what a person must answer."""

    groups: Sequence[PlacedGroup]
    questions: Sequence[Question]


def ask(office: Office) -> Split:
    """Return the split of every system that has files."""
    views = load_views(office)
    questions: list[Question] = []
    groups = []
    for name, view in views.items():
        if view.folders.rows and name in office.readers:
            rules = office.plan.protection.systems.get(name, SystemProtection())
            groups += split(list(_uses(office, view, questions)), rules)
    statuses = [one for one in limits.ask(office, views) if one.pool is not None]
    return Split([_placed(office, one, statuses, questions) for one in groups], questions)


# How folders are used ----------------------------------------------------------------------------------


def _uses(office: Office, view: SpaceView, questions: list[Question]) -> Iterator[tuple[FolderUse, Wanted]]:
    """Yield the folders right in a system, each with what the plan wants of it."""
    counted = _Counted(office, view)
    if not counted.is_told:
        questions.append(Question(view.name, "when files were changed is not told: nothing can be drafted of it"))
        return
    for row in counted.rows_in(0):
        use = counted.use(row, 1)
        if use.size or use.most:
            yield use, office.plan.protection.wanted_at(use.address)


class _Counted:
    """One system as the newest count, an earlier one and its trail have it."""

    def __init__(self, office: Office, view: SpaceView) -> None:
        self._office, self._view = office, view
        taken = next(one.taken_at for one in office.count.surveys if one.system == view.name)
        self._taken = taken
        tree = view.usage().tree
        classes = view.reader.table("classes")
        kept = np.ones(len(classes["folder"]), dtype=bool)
        if view.sorts is not None:
            kept = view.sorts[classes["folder"]] == Sort.CURRENT
        self.is_told = bool(classes["changed"][kept].all())
        lots = kept & (classes["changed"] >= int((taken - timedelta(days=_DAYS)).timestamp()))

        def rolled(weights: NDArray[np.int64], mask: NDArray[np.bool_]) -> Ints:
            own = np.zeros(tree.rows, dtype=np.int64)
            np.add.at(own, classes["folder"][mask], weights[mask])
            return tree.roll_up(own)

        ones = np.ones(len(kept), dtype=np.int64)
        self._least, self._most = rolled(ones, lots), rolled(classes["files"], lots)
        self._written, self._size = rolled(classes["bytes"], lots), rolled(classes["bytes"], kept)
        self._newest = np.zeros(tree.rows, dtype=np.int64)
        np.maximum.at(self._newest, classes["folder"][kept], classes["changed"][kept])
        for first, last in reversed(tree.levels[1:]):
            np.maximum.at(self._newest, tree.parent[first:last], self._newest[first:last])
        self._first_child, self._children = view.folders["first_child"], view.folders["children"]
        self._path_of = folder_paths(view.folders)
        self._aside = set(_kept_aside(office, view))
        self._earlier = _earlier_view(office, view.name)
        self._since = _trail_since(office, view.name, taken)

    def rows_in(self, row: int) -> list[int]:
        """Return the largest folders right in one, but for what is kept beside the files."""
        rows = range(int(self._first_child[row]), int(self._first_child[row]) + int(self._children[row]))
        mine = [one for one in rows if one not in self._aside and (self._size[one] or self._most[one])]
        return sorted(sorted(mine, key=lambda one: -int(self._size[one]))[:_MOST_FOLDERS])

    def use(self, row: int, depth: int) -> FolderUse:
        """Return how a folder is used, with the large ones in it."""
        address = Address(self._view.name, self._path_of(row))
        planned = self._office.plan.systems.get(self._view.name)
        is_whole = depth >= _DEEPEST or (planned is not None and address.path in planned.homes)
        parts = () if is_whole else tuple(
            self.use(one, depth + 1) for one in self.rows_in(row) if 4 * self._size[one] >= self._size[row]
        )  # fmt: skip
        savings, people = self._done_at(address)
        newest = int(self._newest[row])
        return FolderUse(
            address,
            _DAYS,
            int(self._size[row]),
            int(self._least[row]),
            int(self._most[row]),
            int(self._written[row]),
            savings,
            people,
            self._growth(address, int(self._size[row])),
            datetime.fromtimestamp(newest, UTC).date() if newest else None,
            parts,
        )

    def _done_at(self, address: Address) -> tuple[int | None, int | None]:
        """Return how many savings the trail has in as many days, and of how many people; None where it tells none."""
        if self._since is None:
            return None, None
        trail = self._office.ledger.trail
        found = trail.select(below={address: None}, dids=_SAVES, is_done=True, since=self._since, until=self._taken)
        days = (self._taken - self._since) / timedelta(days=1)
        return round(found.number * _DAYS / days), len(found.last_by_login())

    def _growth(self, address: Address, size: int) -> float | None:
        if self._earlier is None:
            return None
        taken, view = self._earlier
        row = view.row_of(address.path)
        then = 0 if row is None else view.all_at(row).bytes
        return (size - then) / ((self._taken - taken) / timedelta(days=1))


def _kept_aside(office: Office, view: SpaceView) -> Iterator[int]:
    """Yield the folders of old versions, the bin and snapshots: they are no folders that anybody works in."""
    if view.sorts is not None:
        yield from np.flatnonzero(view.sorts != Sort.CURRENT).tolist()
    protection = office.plan.protection.systems.get(view.name)
    for rule in protection.snapshots if protection is not None else ():
        row = view.row_of(rule.where)
        if row is not None:
            yield row


def _earlier_view(office: Office, system: str) -> tuple[datetime, SpaceView] | None:
    """Return the oldest count of the last year that has a system, at least some days before the newest."""
    newest = office.count.taken_at
    for count in office.counts_until():
        if timedelta(days=_LEAST_DAYS) <= newest - count.taken_at <= timedelta(days=366):
            reader = office.readers_of(count).get(system)
            if reader is not None:
                return count.taken_at, view_of(office, reader, with_principals=False)
    return None


def _trail_since(office: Office, system: str, taken: datetime) -> datetime | None:
    """Return since when a trail tells what was saved, within as many days; None where it is too short."""
    coverage = coverage_of(office, system) if office.ledger.has_trail(system) else None
    if coverage is None or not coverage.dids & set(_SAVES):
        return None
    since = max(coverage.since, taken - timedelta(days=_DAYS))
    return since if taken - since >= timedelta(days=_LEAST_DAYS) and coverage.until >= taken - timedelta(1) else None


# Where the copies go -----------------------------------------------------------------------------------


def _placed(
    office: Office, group: SplitGroup, statuses: Sequence[LimitStatus], questions: list[Question]
) -> PlacedGroup:
    """Return a group with the pool that has most room for it, other than those in which its folders lie.

    What the plan's own rules copy so already goes nowhere else.
    """
    if group.by:
        return PlacedGroup(group)
    own = {pool.name for part in group.parts if (pool := pool_of(office.plan, part.use.address)) is not None}
    free = [
        one
        for one in statuses
        if one.pool is not None and one.target.name not in own and one.settings.limit is not UNLIMITED
        and one.left is not None and one.left >= group.least
    ]  # fmt: skip
    best = max(free, key=lambda one: one.left or 0, default=None)
    if best is None or best.pool is None:
        names = ", ".join(str(part.use.address) for part in group.parts)
        room = f"{show_size(group.least)} to {show_size(group.most)}"
        text = f"{names}: the copies need a disk with {room} left, and none is known: which one?"
        questions.append(Question(f"{group.system}: {group.rhythm.name}", text))
        return PlacedGroup(group)
    return PlacedGroup(group, best.target.name, best.left, _copies_in(office, best.pool.holds[0], group))


def _copies_in(office: Office, held: str, group: SplitGroup) -> Address:
    top = office.address(held)
    return Address(top.system, top.path.rstrip(b"/") + os.fsencode(f"/Copies/{group.name}"))
