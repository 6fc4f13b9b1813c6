"""What limits promise, against what a pool holds.

An enforced limit promises its space to whoever it is given to. A limit in a folder that has one itself
promises nothing beyond it: the upper one caps it. Whoever already has more than is promised keeps it, so no
promise is less than what is used. Folders, people and groups share the same bytes out in different ways:
what may be asked of the pool is the largest of the three, each with what lies outside its limits.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from datetime import date

from neatledger.core.plan.limits import UNLIMITED, On, Pool
from neatledger.core.plan.plan import Plan
from neatledger.core.space.limit_table import LimitStatus, pool_of, pools_of

__all__ = ["Promise", "promise_of", "promises"]


@dataclass(frozen=True, slots=True)
class Promise:
    """What one pool holds, what is used of it, and what is promised by limits on folders, people and groups.

    All in bytes; `size` is None where nobody tells it. `limits` is how many enforced limits promise.
    """

    pool: str
    size: int | None
    used: int
    by_folders: int
    by_people: int
    by_groups: int
    limits: int

    @property
    def promised(self) -> int:
        """The most that may be asked of the pool."""
        return max(self.by_folders, self.by_people, self.by_groups, self.used)

    @property
    def beyond(self) -> int:
        """By how much more is promised than the pool holds; 0 where it is not, or the size is not known."""
        return max(0, self.promised - self.size) if self.size is not None else 0


def promise_of(lines: Iterable[LimitStatus], today: date) -> tuple[int, int]:
    """Return what limits on folders of one pool promise together, and what is used within them."""
    enforced = [line for line in lines if line.is_enforced(today) and line.settings.limit is not UNLIMITED]
    tops = [
        line
        for line in enforced
        if not any(
            other is not line
            and line.target.address.is_within(other.target.address)
            and line.target.address != other.target.address
            and not _is_left_out(line, other)
            for other in enforced
        )
    ]
    return sum(_one(line) for line in tops), sum(line.amount for line in tops)


def _is_left_out(line: LimitStatus, other: LimitStatus) -> bool:
    """Tell whether a limit does not count a folder though it lies below (as a quota group of its own does not)."""
    if other.found is None:
        return False
    path = line.target.name.rstrip("/") + "/"
    return any(path.startswith(inner.rstrip("/") + "/") for inner in other.found.leaves_out)


def _one(line: LimitStatus) -> int:
    limit = line.settings.limit
    return max(limit, line.amount) if isinstance(limit, int) else line.amount


def promises(plan: Plan, lines: Sequence[LimitStatus], today: date) -> list[Promise]:
    """Return what every pool holds and promises."""
    found = []
    for line in lines:
        if line.target.on is not On.POOL or line.pool is None:
            continue
        folders = [one for one in lines if one.target.on is On.FOLDER and _lies_in(plan, one, line.pool)]
        whole, within = promise_of(folders, today)
        systems = {one.target.system for one in lines if line.pool in pools_of(plan, one.target.system)}
        sums = {On.PERSON: (0, 0, 0), On.GROUP: (0, 0, 0)}
        for one in lines:
            # Limits on people and groups count on one pool alone: where a system has several, none is theirs.
            alone = one.target.system in systems and len(pools_of(plan, one.target.system)) == 1
            if one.target.on in sums and alone and one.is_enforced(today):
                promised, used, number = sums[one.target.on]
                sums[one.target.on] = promised + _one(one), used + one.amount, number + 1
        used = line.amount
        by_person, by_group = ((max(0, used - own) + given if number else 0) for given, own, number in sums.values())
        limited = sum(1 for one in folders if one.is_enforced(today)) + sum(number for _, _, number in sums.values())
        by_folder = whole + max(0, used - within) if folders else 0
        limit = line.settings.limit
        size = limit if isinstance(limit, int) else None
        found.append(Promise(line.target.name, size, used, by_folder, by_person, by_group, limited))
    return found


def _lies_in(plan: Plan, line: LimitStatus, pool: Pool) -> bool:
    mine = pool_of(plan, line.target.address)
    return mine is not None and mine.name == pool.name
