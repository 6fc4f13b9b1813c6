"""The split: which folders belong together by how often they change, what protects them, what it takes in a year.

How much may be lost is drafted from how often something is saved: the longest time in which no more than a few
savings are to be expected. Folders of one system that come to the same belong together, unless most of what is in
one of them is much stiller than the rest: then that stands apart, for it need not be copied so often.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from datetime import date, timedelta

from neatledger.core.plan.protection import SystemProtection, Wanted
from neatledger.core.tree.address import Address, lies_within

__all__ = ["FolderUse", "Rhythm", "SplitGroup", "SplitPart", "split"]

_MOST_SAVINGS = 10
"""So many savings may be lost: half a morning of one person who saves every quarter of an hour or so."""
_HOURS, _WEEK, _WORKDAYS = 8, 7, 5  # when an office works
_APART = 0.25
"""What holds so much of a folder's bytes, and is stiller than it, stands apart."""
_YEAR = timedelta(days=365)


@dataclass(frozen=True, slots=True)
class Rhythm:
    """How often copies are made of what may lose so much at most, and how long they are kept unless the plan says."""

    name: str
    loss: timedelta
    keep: timedelta


RHYTHMS = (
    Rhythm("each-quarter-hour", timedelta(minutes=15), timedelta(days=2)),
    Rhythm("each-hour", timedelta(hours=1), timedelta(days=7)),
    Rhythm("each-day", timedelta(days=1), timedelta(days=30)),
    Rhythm("each-week", timedelta(days=7), timedelta(days=90)),
    Rhythm("each-month", timedelta(days=30), timedelta(days=365)),
)
_DAILY = RHYTHMS[2]


@dataclass(frozen=True, slots=True)
class FolderUse:
    """How a folder with all below it was used in the last `days`.

    `size` are its bytes; `least` to `most` of its files were written then, of `written` bytes at most. `savings` are
    the records of a trail and `people` the accounts that made them (None: no trail tells). `growth` is bytes a day
    (None: one count alone tells nothing of it), `newest` the last day on which anything was written (None: nobody
    tells). `parts` are folders right in it.
    """

    address: Address
    days: int
    size: int
    least: int
    most: int
    written: int
    savings: int | None = None
    people: int | None = None
    growth: float | None = None
    newest: date | None = None
    parts: tuple[FolderUse, ...] = ()

    @property
    def a_day(self) -> float:
        """How often something is saved there on a working day: by the trail, or files written at most."""
        number = self.most if self.savings is None else max(self.savings, self.least)
        return number / self.days * _WEEK / _WORKDAYS

    def without(self, part: FolderUse) -> FolderUse:
        """Return the use of what is left when a part stands apart."""
        return replace(
            self,
            size=self.size - part.size,
            least=max(0, self.least - part.least),
            most=max(0, self.most - part.most),
            written=max(0, self.written - part.written),
            savings=None if self.savings is None or part.savings is None else max(0, self.savings - part.savings),
            growth=None if self.growth is None or part.growth is None else self.growth - part.growth,
            parts=tuple(one for one in self.parts if one != part),
        )


@dataclass(frozen=True, slots=True)
class SplitPart:
    """One folder of the split: how it is used, what may be lost, without what, and why.

    `is_said` tells that the plan itself says what may be lost; `by` is its rule that copies it so already.
    """

    use: FolderUse
    loss: timedelta
    is_said: bool
    without: tuple[Address, ...]
    why: str
    by: str = ""


@dataclass(frozen=True, slots=True)
class SplitGroup:
    """Folders of one system in one rhythm, and how many bytes their copies take in a year, at least and at most.

    `every` is how often a copy on another disk is made, `keep` how long it is kept; `snapshots` are those between,
    where something must be lost for less than a day: how often, and how long they are kept.
    """

    system: str
    rhythm: Rhythm
    parts: tuple[SplitPart, ...]
    every: timedelta
    keep: timedelta
    snapshots: tuple[timedelta, timedelta] | None
    least: int
    most: int

    @property
    def name(self) -> str:
        """What its copies are called."""
        kept = "" if self.keep == _copied(self.rhythm).keep else f"-kept-{self.keep.days}-days"
        return f"{self.system}-{self.rhythm.name}{kept}"

    @property
    def by(self) -> str:
        """The rule of the plan that copies all of it so already; empty where there is none."""
        return self.parts[0].by


def split(uses: Sequence[tuple[FolderUse, Wanted]], rules: SystemProtection) -> list[SplitGroup]:
    """Return the groups of one system, the most pressing first.

    Each folder comes with what the plan wants of it; `rules` are those that protect the system by now.
    """
    found: dict[tuple[Rhythm, timedelta, str], list[SplitPart]] = {}
    for use, wanted in uses:
        for part in _parts_of(use, wanted):
            rhythm = _rhythm_within(part.loss)
            keep = max(_copied(rhythm).keep, wanted.reach or timedelta(0))
            by = _copied_by(rules, part.use.address.path, rhythm, keep)
            found.setdefault((rhythm, keep, by), []).append(replace(part, by=by))
    groups = [_group(rhythm, keep, some) for (rhythm, keep, _), some in found.items()]
    return sorted(groups, key=lambda one: (one.rhythm.loss, -one.keep, one.by))


def _copied_by(rules: SystemProtection, path: bytes, rhythm: Rhythm, keep: timedelta) -> str:
    """Return the backup of the plan that runs as often and is kept as long; empty where there is none.

    Where less than a day may be lost, snapshots as often must be there too.
    """
    if rhythm.loss < _DAILY.loss and not any(
        lies_within(path, one.of) and one.every is not None and one.every <= rhythm.loss for one in rules.snapshots
    ):
        return ""
    every = _copied(rhythm).loss
    good = [
        one.title
        for one in rules.backups
        if one.holds(path) and one.every is not None and one.every <= every and one.keep is not None
        and one.keep >= keep and (not one.disk or one.disk != rules.disk)
    ]  # fmt: skip
    return good[0] if good else ""


def _parts_of(use: FolderUse, wanted: Wanted) -> Iterator[SplitPart]:
    if wanted.loss is not None:
        yield SplitPart(use, wanted.loss, True, (), f"the plan says so; {_use_words(use)}")
        return
    apart = [one for one in use.parts if use.size > one.size >= _APART * use.size and one.size]
    whole = _without(use, apart)
    # What is left is stiller than all of it was: what is no stiller than that goes back, the busiest first.
    while still := [one for one in apart if _rhythm_of(one).loss <= _rhythm_of(whole).loss]:
        apart.remove(max(still, key=lambda one: one.a_day))
        whole = _without(use, apart)
    yield SplitPart(whole, _rhythm_of(whole).loss, False, tuple(one.address for one in apart), _use_words(whole))
    for part in apart:
        yield from _parts_of(part, wanted)


def _without(use: FolderUse, apart: Sequence[FolderUse]) -> FolderUse:
    for one in apart:
        use = use.without(one)
    return use


def _rhythm_of(use: FolderUse) -> Rhythm:
    """Return the rarest rhythm in which no more savings are to be expected between two copies than may be lost."""
    return next((one for one in reversed(RHYTHMS) if _expected(use, one.loss) <= _MOST_SAVINGS), RHYTHMS[0])


def _rhythm_within(loss: timedelta) -> Rhythm:
    """Return the rarest rhythm that loses no more than a time."""
    return next((one for one in reversed(RHYTHMS) if one.loss <= loss), RHYTHMS[0])


def _expected(use: FolderUse, length: timedelta) -> float:
    """Return how many savings are to be expected in a length of time; within a day only working hours count."""
    day = timedelta(days=1)
    if length < day:
        return use.a_day * (length / timedelta(hours=1)) / _HOURS
    return use.a_day if length == day else use.a_day * (length / day) * _WORKDAYS / _WEEK


def _use_words(use: FolderUse) -> str:
    if not use.most and not use.savings:
        last = f", the last on {use.newest}" if use.newest is not None else ""
        return f"nothing written in {use.days} days{last}"
    if use.savings is None:
        number = f"{use.most:,}" if use.least == use.most else f"{use.least:,} to {use.most:,}"
        return f"{number} {'file' if use.most == 1 else 'files'} written in {use.days} days"
    people = f" by {use.people} {'account' if use.people == 1 else 'accounts'}" if use.people else ""
    return f"{use.savings:,} {'saving' if use.savings == 1 else 'savings'} in {use.days} days{people}"


def _copied(rhythm: Rhythm) -> Rhythm:
    """Return the rhythm of copies on another disk: a disk is not written anew more often than once a day."""
    return max(rhythm, _DAILY, key=lambda one: one.loss)


def _group(rhythm: Rhythm, keep: timedelta, parts: list[SplitPart]) -> SplitGroup:
    copied = _copied(rhythm)
    snapshots = (rhythm.loss, rhythm.keep) if rhythm.loss < copied.loss else None
    least = most = 0
    for part in parts:
        low, high = _bytes_of(part.use, copied.loss, keep, snapshots)
        least, most = least + low, most + high
    system = parts[0].use.address.system
    return SplitGroup(system, rhythm, tuple(parts), copied.loss, keep, snapshots, least, most)


def _bytes_of(
    use: FolderUse, every: timedelta, keep: timedelta, snapshots: tuple[timedelta, timedelta] | None
) -> tuple[int, int]:
    """Return the bytes that copies of a folder take a year from now, at least and at most.

    At least: the folder once as it is, and what is surely written while a run is kept once more. At most: the whole
    folder, as it has grown by then, for each run that is kept, and in snapshots each saving with as many bytes as the
    files that were written have on the average.
    """
    day = timedelta(days=1)
    then = use.size + max(0.0, use.growth or 0.0) * 365
    kept = min(keep, _YEAR)
    a_day = use.written / use.days
    saved = max(use.most, use.savings or 0) / use.most * a_day if use.most else 0.0
    sure = a_day * use.least / use.most if use.most else 0.0
    least = use.size + sure * (kept / day)
    most = then * max(1, int(kept / every))
    if snapshots is not None:
        most += saved * (snapshots[1] / day)
    return int(least), int(max(least, most))
