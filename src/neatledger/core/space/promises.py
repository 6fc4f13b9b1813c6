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


def promise_of(statuses: Iterable[LimitStatus], today: date) -> tuple[int, int]:
    """Return what limits on folders of one pool promise together, and what is used within them."""
    enforced = [status for status in statuses if status.is_enforced(today) and status.settings.limit is not UNLIMITED]
    tops = [
        status
        for status in enforced
        if not any(
            other is not status
            and status.target.address.is_within(other.target.address)
            and status.target.address != other.target.address
            and not _is_left_out(status, other)
            for other in enforced
        )
    ]
    return sum(_one(status) for status in tops), sum(status.amount for status in tops)


def _is_left_out(status: LimitStatus, other: LimitStatus) -> bool:
    """Tell whether a limit does not count a folder though it lies below (as a quota group of its own does not)."""
    if other.found is None:
        return False
    path = status.target.name.rstrip("/") + "/"
    return any(path.startswith(inner.rstrip("/") + "/") for inner in other.found.leaves_out)


def _one(status: LimitStatus) -> int:
    limit = status.settings.limit
    # Who is over their limit has been promised what they use: it is there already.
    return max(limit, status.amount) if isinstance(limit, int) else status.amount


def promises(plan: Plan, statuses: Sequence[LimitStatus], today: date) -> list[Promise]:
    """Return what every pool holds and promises."""
    found = []
    for status in statuses:
        if status.target.on is not On.POOL or status.pool is None:
            continue
        folders = [one for one in statuses if one.target.on is On.FOLDER and _lies_in(plan, one, status.pool)]
        whole, within = promise_of(folders, today)
        systems = {one.target.system for one in statuses if status.pool in pools_of(plan, one.target.system)}
        sums = {On.PERSON: (0, 0, 0), On.GROUP: (0, 0, 0)}
        for one in statuses:
            # Limits on people and groups count on one pool alone: where a system has several, none is theirs.
            alone = one.target.system in systems and len(pools_of(plan, one.target.system)) == 1
            if one.target.on in sums and alone and one.is_enforced(today):
                promised, used, number = sums[one.target.on]
                sums[one.target.on] = promised + _one(one), used + one.amount, number + 1
        used = status.amount
        # What nobody's limit covers is used all the same, and stands beside what is promised.
        by_person, by_group = ((max(0, used - own) + given if number else 0) for given, own, number in sums.values())
        limited = sum(1 for one in folders if one.is_enforced(today)) + sum(number for _, _, number in sums.values())
        # The same for what lies in no limited folder.
        by_folder = whole + max(0, used - within) if folders else 0
        limit = status.settings.limit
        size = limit if isinstance(limit, int) else None
        found.append(Promise(status.target.name, size, used, by_folder, by_person, by_group, limited))
    return found


def _lies_in(plan: Plan, status: LimitStatus, pool: Pool) -> bool:
    mine = pool_of(plan, status.target.address)
    return mine is not None and mine.name == pool.name
