"""Other rules supposed: what would then be lost at most, and how far back it would go, if all ran as it is said."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import datetime, timedelta

from neatledger.core.plan.protection import BackupRule, SnapshotRule, SystemProtection
from neatledger.core.protection.found import FoundProtection, FoundSnapshot, Run

__all__ = ["Supposed", "as_it_is_said", "supposed_rules"]

_MOST_POINTS = 10_000


@dataclass(frozen=True, slots=True)
class Supposed:
    """What is supposed of one system: folders taken into backups, by name; other rhythms and lengths of keeping."""

    into: Mapping[str, Sequence[bytes]]
    every: Mapping[str, timedelta]
    keep: Mapping[str, timedelta]

    @property
    def names(self) -> set[str]:
        """The rules that it speaks of."""
        return {*self.into, *self.every, *self.keep}


def supposed_rules(system: SystemProtection, supposed: Supposed) -> SystemProtection:
    """Return the rules as they would be; a folder that is taken in is not left out any more."""
    return replace(
        system,
        snapshots=tuple(
            replace(one, every=supposed.every.get(one.name, one.every), keep=supposed.keep.get(one.name, one.keep))
            for one in system.snapshots
        ),
        backups=tuple(_backup(one, supposed) for one in system.backups),
    )


def _backup(one: BackupRule, supposed: Supposed) -> BackupRule:
    into = tuple(supposed.into.get(one.name, ()))
    return replace(
        one,
        of=(*one.of, *into),
        without=tuple(path for path in one.without if path not in into),
        every=supposed.every.get(one.name, one.every),
        keep=supposed.keep.get(one.name, one.keep),
    )


def as_it_is_said(system: SystemProtection, now: datetime) -> FoundProtection:
    """Return what would be found right before the next run of everything, had it all run as the rules say.

    A rule without a rhythm brings nothing that can be counted on; one without a keeping keeps its last alone.
    """
    return FoundProtection(
        [FoundSnapshot(rule.of, moment, rule.where) for rule in system.snapshots for moment in _moments(rule, now)],
        [Run(rule.name, moment, is_done=True) for rule in system.backups for moment in _moments(rule, now)],
    )


def _moments(rule: SnapshotRule | BackupRule, now: datetime) -> Iterator[datetime]:
    if rule.every is None:
        return
    yield now - rule.every
    if rule.keep is not None:
        last = min(int(rule.keep / rule.every), _MOST_POINTS)
        yield from (now - number * rule.every for number in range(2, last + 1))
