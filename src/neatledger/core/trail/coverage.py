"""What the records of a system cover: only there can it be said that something was never done."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta

from neatledger.core.trail.records import Did

__all__ = ["Coverage", "Gap", "common_coverage"]


@dataclass(frozen=True, slots=True)
class Gap:
    """A time of which records are missing, and why (UTC)."""

    after: datetime
    before: datetime
    why: str


@dataclass(frozen=True, slots=True)
class Coverage:
    """From the first record to the last reading (UTC), without the gaps; `dids` are what was ever written down.

    What a log never wrote down of anybody, such as openings, may be switched off there: nothing is known of it.
    """

    first: datetime
    until: datetime
    gaps: tuple[Gap, ...] = ()
    dids: frozenset[Did] = frozenset()

    @property
    def since(self) -> datetime:
        """The moment from which on nothing is missing."""
        return max([self.first, *(gap.before for gap in self.gaps)])

    def days_seen(self) -> int:
        """Return how many whole days before the last reading were seen without a gap."""
        return max(0, (self.until - self.since).days)


def common_coverage(some: Sequence[Coverage]) -> Coverage | None:
    """Return what several logs of one system cover together: a time that all of them cover; None without any."""
    if not some:
        return None
    gaps = tuple(sorted((gap for one in some for gap in one.gaps), key=lambda gap: gap.after))
    dids = frozenset(did for one in some for did in one.dids)
    return Coverage(max(one.first for one in some), min(one.until for one in some), gaps, dids)


def silences(moments: Iterable[datetime], longest: timedelta) -> list[Gap]:
    """Return times longer than `longest` in which nothing at all was written; `moments` are in order."""
    found: list[Gap] = []
    before: datetime | None = None
    for moment in moments:
        if before is not None and moment - before > longest:
            found.append(Gap(before, moment, f"nothing at all was written for {(moment - before).days} days"))
        before = moment
    return found
