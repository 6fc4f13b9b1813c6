"""Room: how much a person can still put in a folder, and what stops first. The space twin of effective access.

Everything that can stop a write is worked out and kept, each with the figures that it comes from; the answer
is the least of what they leave. So the explanation is the computation.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from datetime import date

from neatledger.core.plan.limits import UNLIMITED, On
from neatledger.core.plan.plan import Plan
from neatledger.core.space.limit_table import LimitStatus, entitled_space, pool_of
from neatledger.core.space.sizes import show_limit, show_size
from neatledger.core.tree.address import Address

__all__ = ["Newcomer", "Room", "Stop", "find_room", "lines_above"]


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
    def stopping(self) -> tuple[Stop, ...]:
        """Those that stop a write, the first to stop first."""
        return tuple(stop for stop in self.stops if stop.stops and stop.left is not None)

    @property
    def left(self) -> int | None:
        """What can still be written, None where nothing sets a limit."""
        return self.stopping[0].usable if self.stopping else None


def lines_above(lines: Iterable[LimitStatus], folder: Address) -> list[LimitStatus]:
    """Return the limits on a folder and on those above it, the innermost first, but for those that leave it out."""
    found = [
        line
        for line in lines
        if line.target.on is On.FOLDER and folder.is_within(line.target.address) and not _leaves_out(line, folder)
    ]
    return sorted(found, key=lambda line: -len(line.target.address.parts))


def _leaves_out(line: LimitStatus, folder: Address) -> bool:
    paths = line.found.leaves_out if line.found else ()
    return any(folder.is_within(Address(folder.system, path.encode("utf-8", "surrogateescape"))) for path in paths)


@dataclass(frozen=True, slots=True)
class Newcomer:
    """Somebody with something to store: the person, the folder, and the group that a new file there belongs to.

    `group` is "" where the system keeps none; `refusal` is why they may not add files there, "" where they may.
    """

    person: str
    folder: Address
    group: str
    refusal: str


def find_room(plan: Plan, lines: Sequence[LimitStatus], newcomer: Newcomer, today: date) -> Room:
    """Work out the room of a person in a folder, by the state of the office's limits."""
    person, folder = newcomer.person, newcomer.folder
    mine = [line for line in lines if line.target.system == folder.system]
    found = [_of_line(line, f"limit on {line.target.key}", today) for line in lines_above(mine, folder)]
    for line in mine:
        if line.target.on is On.PERSON and line.target.name == person:
            if line.planned is not None or line.found is not None:
                found.append(_of_line(line, f"limit on {person}'s files", today))
            found += _entitled(plan, line)
        elif line.target.on is On.GROUP and line.target.name == newcomer.group:
            found.append(_of_line(line, f"limit on the files of {newcomer.group}", today))
    pool = pool_of(plan, folder)
    for line in lines:
        is_pool = pool is not None and line.target.on is On.POOL and line.target.name == pool.name
        if is_pool and not _leaves_out(line, folder):
            found.append(_of_pool(line))
    if newcomer.refusal:
        found.append(Stop("access", 0, True, newcomer.refusal))
    # Of two that leave the same the one that is nearer to the folder stands first: the sort is stable.
    found.sort(key=lambda stop: (stop.left is None, not stop.stops, stop.left if stop.left is not None else 0))
    rules = plan.space.rules_of(folder.system)
    barred = sorted({kind for one in plan.space.barred if folder.is_within(one.folder) for kind in one.kinds})
    return Room(person, folder, tuple(found), rules.largest, tuple(barred))


def _of_line(line: LimitStatus, what: str, today: date) -> Stop:
    settings = line.settings
    if settings.limit is UNLIMITED:
        return Stop(what, None, False, "no limit")
    word = f"{show_size(line.amount)} of {show_limit(settings.limit)} used"
    if line.found is not None and line.found.used is not None:
        word += f", as {line.found.by or 'the system'} says"
    if line.found is not None and line.found.kept_back and line.found.used is not None:
        word += f"; {show_size(line.found.kept_back)} of it kept ready by the system"
    if line.found is None:
        word += "; as planned, for the system does not tell"
    if not line.is_enforced(today):
        grace = line.grace_left(today)
        message = (
            ""
            if grace is None
            else f", for {grace} days more"
            if line.over_since
            else f", for {grace} days once passed"
        )
        word += f"; watched: it may be passed{message}"
    elif not settings.enforced:
        word += "; watched, and its grace is up"
    return Stop(what, line.left, line.is_enforced(today), word, settings.limit, line.amount)


def _entitled(plan: Plan, line: LimitStatus) -> list[Stop]:
    found = entitled_space(plan, line.target.system, line.target.name)
    most = found.space if found else UNLIMITED
    if found is None or not isinstance(most, int):
        return []
    word = f"{show_size(line.amount)} of {show_size(most)} used"
    return [Stop(f"entitlement {found.name}", most - line.amount, True, word, most, line.amount)]


def _of_pool(line: LimitStatus) -> Stop:
    limit = line.settings.limit
    what = f"pool {line.target.name}"
    if limit is UNLIMITED:
        return Stop(what, None, False, "nobody tells how much it holds")
    word = f"{show_size(line.amount)} of {show_size(limit)} used"
    word += f", as {line.found.by} says" if line.found and line.found.used is not None and line.found.by else ""
    return Stop(what, line.left, True, word, limit, line.amount)
