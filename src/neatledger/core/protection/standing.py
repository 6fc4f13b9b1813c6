"""One folder's protection: from what it would come back, and whether that is what the plan wants.

What is not known protects nothing: a run of which nobody told whether it came to its end, a snapshot in the future, a
backup whose runs could not be read. It is said, and never counted.
"""

from __future__ import annotations

from collections.abc import Collection, Iterator, Sequence
from dataclasses import dataclass, replace
from datetime import datetime, timedelta
from itertools import pairwise

from neatledger.core.plan.protection import BackupRule, SnapshotRule, SystemProtection, Wanted, show_duration
from neatledger.core.protection.found import FoundProtection
from neatledger.core.tree.address import lies_within, parts_of
from neatledger.counting import count_of

__all__ = ["RestorePoint", "Standing", "standing_of", "with_restorers"]


@dataclass(frozen=True, slots=True)
class RestorePoint:
    """Something that would bring a folder back as it was at a moment (UTC), and where that lies.

    `disk` and `place` are empty where nobody says which; `by` is the rule's name. `took` is how long bringing back
    took at most when it was tried; None: nobody says. `at` is the folder in the snapshot; empty of a backup.
    """

    moment: datetime
    by: str
    is_snapshot: bool
    disk: str
    place: str
    took: timedelta | None = None
    at: bytes = b""


@dataclass(frozen=True, slots=True)
class Shortfall:
    """Something wanted that is not so, or that nobody can tell: in a phrase what is missing, and in a sentence."""

    missing: str
    words: str


@dataclass(frozen=True)
class Standing:
    """What protects a folder now: its points, the newest first; what is wanted; what of it is not so, and unknown.

    `loss` is the time since the newest point, `reach` how far back the oldest goes, `gap` the longest time between
    two points; None where there is none. `copies` are the other disks on which it lies. `back` is how soon it would
    be there again, from a point that does not lose more than is wanted if there is one; None where nobody says.
    `shortfalls` are what of the wanted is not so, `open_questions` what of it nobody can tell.
    """

    wanted: Wanted
    points: Sequence[RestorePoint]
    loss: timedelta | None
    reach: timedelta | None
    gap: timedelta | None
    back: timedelta | None
    copies: frozenset[str]
    is_elsewhere: bool
    is_synced: bool
    unknown: tuple[str, ...]
    shortfalls: tuple[Shortfall, ...] = ()
    open_questions: tuple[Shortfall, ...] = ()

    @property
    def is_protected(self) -> bool:
        """Tell whether anything at all would bring it back."""
        return bool(self.points)

    @property
    def faults(self) -> list[str]:
        """What of the wanted is not so, in sentences."""
        return [shortfall.words for shortfall in self.shortfalls]

    @property
    def doubts(self) -> list[str]:
        """What is wanted and nobody can tell of, in sentences."""
        return [question.words for question in self.open_questions]


def standing_of(
    path: bytes, wanted: Wanted, system: SystemProtection, found: FoundProtection, now: datetime
) -> Standing:
    """Return how a folder of a system is protected at a moment."""
    unknown: list[str] = []
    points = sorted(_points(path, system, found, now, unknown), key=lambda one: one.moment, reverse=True)
    disks = frozenset(one.disk for one in points if one.disk and one.disk != system.disk)
    places = {one.place for one in points if one.place and one.place != system.place}
    moments = [one.moment for one in points]
    standing = Standing(
        wanted,
        points,
        now - moments[0] if points else None,
        now - moments[-1] if points else None,
        max((later - earlier for later, earlier in pairwise([now, *moments])), default=None),
        min((one.took for one in _good_points(wanted, points, now) if one.took is not None), default=None),
        disks,
        bool(places),
        any(lies_within(path, one) for one in system.synced),
        tuple(dict.fromkeys(unknown)),
    )
    silent = dict.fromkeys(one.by for one in _good_points(wanted, points, now) if one.took is None)
    too_long, untold = _judge_back(standing, list(silent))
    return replace(standing, shortfalls=(*_shortfalls(standing), *too_long), open_questions=tuple(untold))


def _good_points(wanted: Wanted, points: Sequence[RestorePoint], now: datetime) -> Sequence[RestorePoint]:
    """Return the points that lose no more than is wanted; all of them where each does, or nothing is said of it."""
    good = [one for one in points if wanted.loss is not None and now - one.moment <= wanted.loss]
    return good or points


def _points(
    path: bytes, system: SystemProtection, found: FoundProtection, now: datetime, unknown: list[str]
) -> Iterator[RestorePoint]:
    for rule in system.snapshots:
        if lies_within(path, rule.of) and not lies_within(path, rule.where):
            yield from _of_snapshots(path, rule, system, found, now, unknown)
    for backup in system.backups:
        if backup.holds(path):
            yield from _of_backup(backup, found, now, unknown)


def _of_snapshots(
    path: bytes,
    rule: SnapshotRule,
    system: SystemProtection,
    found: FoundProtection,
    now: datetime,
    unknown: list[str],
) -> Iterator[RestorePoint]:
    inside = b"/".join(parts_of(path)[len(parts_of(rule.of)) :])
    name = rule.name
    if name in found.unread:
        unknown.append(f"{name}: {found.unread[name]}")
    for one in found.snapshots:
        if one.of != rule.of or not lies_within(one.where, rule.where):
            continue
        if one.moment > now:
            unknown.append(f"{name}: one is of the future")
        else:
            # It lies on the same disk: what takes the disk takes it too.
            at = b"/".join(part for part in (one.where, inside) if part)
            yield RestorePoint(one.moment, name, True, system.disk, system.place, rule.took, at)


def _of_backup(rule: BackupRule, found: FoundProtection, now: datetime, unknown: list[str]) -> Iterator[RestorePoint]:
    name = rule.title
    if name in found.unread:
        unknown.append(f"{name}: {found.unread[name]}")
    for run in found.runs:
        if run.backup != rule.name:
            continue
        if run.is_done is None:
            unknown.append(
                f"{name}: of the run of {run.moment:%Y-%m-%d %H:%M} nobody told whether it came to its end"
            )
        elif run.moment > now:
            unknown.append(f"{name}: one run is of the future")
        elif run.is_done and (rule.keep is None or now - run.moment <= rule.keep):
            yield RestorePoint(run.moment, name, False, rule.disk, rule.place, rule.took)


def with_restorers(one: Standing, may: Collection[str], can: Collection[str], untold: Sequence[str]) -> Standing:
    """Return what it is, judged besides by who is to bring it back.

    `may` are those who are to, `can` those who can, and `untold` the copies of which nobody knows who can.
    """
    missing = [person for person in may if person not in can]
    if not missing or not one.points:
        return one
    names = ", ".join(missing)
    if untold:
        doubt = f"whether {names} can bring it back is not known of {', '.join(untold)}"
        return replace(one, open_questions=(*one.open_questions, Shortfall(doubt, doubt)))
    fault = f"{names} should be able to bring it back, and cannot"
    return replace(one, shortfalls=(*one.shortfalls, Shortfall(fault, fault)))


def _shortfalls(one: Standing) -> Iterator[Shortfall]:
    """Say what of the wanted is not so."""
    wanted = one.wanted
    if wanted.is_nothing:
        return
    if not one.points:
        if one.unknown:
            yield Shortfall("unknown: see below", "no backup is known")
        else:
            yield Shortfall("a backup", "there is no backup")
        return
    if wanted.loss is not None and one.loss is not None and one.loss > wanted.loss:
        loss, allowed = show_duration(one.loss), show_duration(wanted.loss)
        yield Shortfall("runs in time", f"{loss} of work would be lost; the plan allows {allowed}")
    if wanted.reach is not None and one.reach is not None and one.reach < wanted.reach:
        reach, asked = show_duration(one.reach), show_duration(wanted.reach)
        yield Shortfall("older backups", f"restores go back {reach}; the plan asks for {asked}")
    if wanted.copies is not None and len(one.copies) < wanted.copies:
        disks = count_of(len(one.copies), "other disk")
        yield Shortfall("a copy on another disk", f"copies on {disks}; the plan asks for {wanted.copies}")
    if wanted.elsewhere and not one.is_elsewhere:
        yield Shortfall("a copy in another place", "there is no copy in another place")


def _judge_back(one: Standing, silent: Sequence[str]) -> tuple[list[Shortfall], list[Shortfall]]:
    """Return what is wrong with how soon it would be back, and what is not known of that.

    `silent` are the rules of which nobody says how long bringing something back takes.
    """
    longest = one.wanted.back
    if longest is None or not one.points or (one.back is not None and one.back <= longest):
        return [], []
    if silent:
        unknown = f"how long a restore takes is not known of {', '.join(silent)}"
        return [], [Shortfall("restore time unknown" if one.back is None else unknown, unknown)]
    assert one.back is not None, "a rule that is not silent says it"
    words = f"a restore takes {show_duration(one.back)}; the plan allows {show_duration(longest)}"
    return [Shortfall("a faster restore", words)], []
