"""One folder's protection: from what it would come back, and whether that is what the plan wants.

What is not known protects nothing: a run of which nobody told whether it came to its end, a snapshot in the future, a
backup whose runs could not be read. It is said, and never counted.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from datetime import datetime, timedelta
from itertools import pairwise

from neatledger.core.plan.protection import BackupRule, SnapshotRule, SystemProtection, Wanted, show_duration
from neatledger.core.protection.found import FoundProtection
from neatledger.core.tree.address import lies_within

__all__ = ["RestorePoint", "Standing", "standing_of"]


@dataclass(frozen=True, slots=True)
class RestorePoint:
    """Something that would bring a folder back as it was at a moment (UTC), and where that lies.

    `disk` and `place` are empty where nobody says which; `by` is the rule's name.
    """

    moment: datetime
    by: str
    is_snapshot: bool
    disk: str
    place: str


@dataclass(frozen=True)
class Standing:
    """What protects a folder now: its points, the newest first; what is wanted; what of it is not so, and unknown.

    `loss` is the time since the newest point, `reach` how far back the oldest goes, `gap` the longest time between
    two points; None where there is none. `copies` are the other disks on which it lies.
    """

    wanted: Wanted
    points: Sequence[RestorePoint]
    loss: timedelta | None
    reach: timedelta | None
    gap: timedelta | None
    copies: frozenset[str]
    is_elsewhere: bool
    is_synced: bool
    unknown: tuple[str, ...]
    faults: tuple[str, ...]

    @property
    def is_protected(self) -> bool:
        """Tell whether anything at all would bring it back."""
        return bool(self.points)


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
        disks,
        bool(places),
        any(lies_within(path, one) for one in system.synced),
        tuple(dict.fromkeys(unknown)),
        (),
    )
    return replace(standing, faults=tuple(_faults(standing)))


def _points(
    path: bytes, system: SystemProtection, found: FoundProtection, now: datetime, unknown: list[str]
) -> Iterator[RestorePoint]:
    for rule in system.snapshots:
        if lies_within(path, rule.of) and not lies_within(path, rule.where):
            yield from _of_snapshots(rule, system, found, now, unknown)
    for backup in system.backups:
        if backup.holds(path):
            yield from _of_backup(backup, found, now, unknown)


def _of_snapshots(
    rule: SnapshotRule, system: SystemProtection, found: FoundProtection, now: datetime, unknown: list[str]
) -> Iterator[RestorePoint]:
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
            yield RestorePoint(one.moment, name, True, system.disk, system.place)


def _of_backup(rule: BackupRule, found: FoundProtection, now: datetime, unknown: list[str]) -> Iterator[RestorePoint]:
    name = f"backup {rule.name}"
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
            yield RestorePoint(run.moment, name, False, rule.disk, rule.place)


def _faults(one: Standing) -> Iterator[str]:
    """Say what of the wanted is not so."""
    wanted = one.wanted
    if wanted.is_nothing:
        return
    if not one.points:
        yield "nothing is known that would bring it back" if one.unknown else "nothing would bring it back"
        return
    if wanted.loss is not None and one.loss is not None and one.loss > wanted.loss:
        yield f"{show_duration(one.loss)} would be lost, and {show_duration(wanted.loss)} may be"
    if wanted.reach is not None and one.reach is not None and one.reach < wanted.reach:
        yield f"it goes back {show_duration(one.reach)}, and should {show_duration(wanted.reach)}"
    if wanted.copies is not None and len(one.copies) < wanted.copies:
        yield f"it lies on {len(one.copies)} other disks, and should on {wanted.copies}"
    if wanted.elsewhere and not one.is_elsewhere:
        yield "no copy is in another place"
