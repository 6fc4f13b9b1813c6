"""Room: how much a person can still put in a folder, and what stops first. The space twin of effective access.

Everything that can stop a write is worked out and kept, each with the figures that it comes from; the answer
is the least of what they leave. So the explanation is the computation.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass
from datetime import date

from neatledger.core.plan.limits import UNLIMITED, On
from neatledger.core.plan.plan import Plan
from neatledger.core.space.limit_table import LimitStatus, entitled_space, pool_of
from neatledger.core.space.sizes import show_limit, show_size
from neatledger.core.tree.address import Address
from neatledger.counting import count_of

__all__ = ["Newcomer", "Room", "Stop", "find_room", "statuses_above"]


_ACCESS = "access"


@dataclass(frozen=True, slots=True)
class Stop:
    """One thing that a write comes up against.

    `left` is what it leaves (bytes, None: it sets no limit), `stops` whether it stops the write or only tells;
    `because` is why, with its figures.
    """

    what: str
    left: int | None
    stops: bool
    because: str
    limit: int | None = None
    used: int | None = None

    @property
    def usable(self) -> int | None:
        """What may be written as far as this goes, None for no bound."""
        return None if self.left is None else max(0, self.left)


@dataclass(frozen=True, slots=True)
class Room:
    """How much a person can still put in a folder: all stops, the first to stop first.

    `largest` is the largest single file allowed, `barred` the kinds that may not be stored here.
    """

    person: str
    folder: Address
    stops: tuple[Stop, ...]
    largest: int | None
    barred: tuple[str, ...]

    @property
    def is_known(self) -> bool:
        """Tell whether it is known that they may write there at all, or that they may not."""
        return not any(stop.what == _ACCESS and stop.left is None for stop in self.stops)

    @property
    def stopping(self) -> tuple[Stop, ...]:
        """Those that stop a write, the first to stop first."""
        return tuple(stop for stop in self.stops if stop.stops and stop.left is not None)

    @property
    def left(self) -> int | None:
        """What can still be written, None where nothing sets a limit."""
        return self.stopping[0].usable if self.stopping else None


def statuses_above(statuses: Iterable[LimitStatus], folder: Address) -> list[LimitStatus]:
    """Return the limits on a folder and on those above it, the innermost first, but for those that leave it out."""
    found = [
        status
        for status in statuses
        if status.target.on is On.FOLDER
        and folder.is_within(status.target.address)
        and not _leaves_out(status, folder)
    ]
    # Of limits with as much left the nearest is named first: it is the one that somebody set for this folder.
    return sorted(found, key=lambda status: -len(status.target.address.parts))


def _leaves_out(status: LimitStatus, folder: Address) -> bool:
    paths = status.found.leaves_out if status.found else ()
    return any(folder.is_within(Address(folder.system, path.encode("utf-8", "surrogateescape"))) for path in paths)


@dataclass(frozen=True, slots=True)
class Newcomer:
    """Somebody with something to store: the person, the folder, and the group that a new file there belongs to.

    `group` is "" where the system keeps none; `refusal` is why they may not add files there, "" where they may;
    where it is not known whether they may, `is_doubtful`.
    """

    person: str
    folder: Address
    group: str
    refusal: str
    is_doubtful: bool = False


def find_room(plan: Plan, statuses: Sequence[LimitStatus], newcomer: Newcomer, today: date) -> Room:
    """Work out the room of a person in a folder, by the state of the office's limits."""
    person, folder = newcomer.person, newcomer.folder
    mine = [status for status in statuses if status.target.system == folder.system]
    found = []
    for status in statuses_above(mine, folder):
        found.append(_stop_of(status, f"limit on {status.target.key}", today))
        found += _items(status, f"files in {status.target.key}")
    for status in mine:
        if status.target.on is On.PERSON and status.target.name == person:
            if status.planned is not None or status.found is not None:
                found.append(_stop_of(status, f"limit on {person}'s files", today))
                found += _items(status, f"number of {person}'s files")
            # What a person is entitled to bounds them beside their limit, and whether or not they have one.
            found += _entitled(plan, status)
        elif status.target.on is On.GROUP and status.target.name == newcomer.group:
            found.append(_stop_of(status, f"limit on the files of {newcomer.group}", today))
            found += _items(status, f"number of {newcomer.group}'s files")
    pool = pool_of(plan, folder)
    for status in statuses:
        is_pool = pool is not None and status.target.on is On.POOL and status.target.name == pool.name
        if is_pool and not _leaves_out(status, folder):
            found.append(_of_pool(status))
            found += _items(status, f"files in pool {pool.name}" if pool else "")
    if newcomer.refusal:
        # Space that one may not write to is no room.
        found.append(Stop(_ACCESS, None if newcomer.is_doubtful else 0, True, newcomer.refusal))
    # Of two that leave the same the one that is nearer to the folder stands first: the sort is stable.
    found.sort(key=lambda stop: (stop.left is None, not stop.stops, stop.left if stop.left is not None else 0))
    rules = plan.space.rules_of(folder.system)
    barred = sorted({kind for one in plan.space.barred if folder.is_within(one.folder) for kind in one.kinds})
    return Room(person, folder, tuple(found), rules.largest, tuple(barred))


def _stop_of(status: LimitStatus, what: str, today: date) -> Stop:
    settings = status.settings
    if settings.limit is UNLIMITED:
        return Stop(what, None, False, "no limit" if status.is_told else "not reported: there may be one")
    word = f"{show_size(status.amount)} of {show_limit(settings.limit)} used"
    if status.found is not None and status.found.used is not None:
        word += f", as {status.found.by or 'the system'} says"
    if status.found is not None and status.found.kept_back and status.found.used is not None:
        word += f"; {show_size(status.found.kept_back)} of it kept ready by the system"
    if status.found is None:
        word += "; as planned: the system reports no limit"
    if not status.is_enforced(today):
        grace = status.grace_left(today)
        message = (
            ""
            if grace is None
            else f" for {count_of(grace, 'more day')}"
            if status.over_since
            else f" for {count_of(grace, 'day')} once exceeded"
        )
        word += f"; only warns; may be exceeded{message}"
    elif not settings.enforced:
        word += "; only warned, and its days are over"
    return Stop(what, status.left, status.is_enforced(today), word, settings.limit, status.amount)


def _items(status: LimitStatus, what: str) -> Iterator[Stop]:
    """Yield the bound on how many files and folders there may be: while one more fits, it leaves any space."""
    left, told = status.items_left, status.found
    if left is not None and told is not None:
        more = f"{left:,} more can be made" if left else "not one more can be made, whatever space is left"
        word = f"{told.items_used:,} of {told.items:,} files and folders, as {told.by or 'the system'} says: {more}"
        yield Stop(what, None if left else 0, True, word)


def _entitled(plan: Plan, status: LimitStatus) -> list[Stop]:
    found = entitled_space(plan, status.target.system, status.target.name)
    # Entitled to no end is no bound.
    most = found.space if found else UNLIMITED
    if found is None or not isinstance(most, int):
        return []
    word = f"{show_size(status.amount)} of {show_size(most)} used"
    return [Stop(f"entitlement {found.name}", most - status.amount, True, word, most, status.amount)]


def _of_pool(status: LimitStatus) -> Stop:
    limit = status.settings.limit
    what = f"pool {status.target.name}"
    if limit is UNLIMITED:
        return Stop(what, None, False, "its size is unknown")
    word = f"{show_size(status.amount)} of {show_size(limit)} used"
    word += (
        f", as {status.found.by} says" if status.found and status.found.used is not None and status.found.by else ""
    )
    return Stop(what, status.left, True, word, limit, status.amount)
