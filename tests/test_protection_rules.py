"""The checks of protection, and lengths of time, one off on either side; no system is asked."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from datetime import UTC, date, datetime, timedelta
from types import SimpleNamespace
from typing import Any

import pytest

from neatledger.core.checks.contract import OfficeFacts, ProtectionFacts, SpaceFacts
from neatledger.core.checks.table import CHECKS
from neatledger.core.plan.protection import (
    BackupRule,
    EncryptedFolder,
    ProtectionPlan,
    SnapshotRule,
    SystemProtection,
    Wanted,
    parse_duration,
    show_duration,
)
from neatledger.core.protection.found import FoundProtection, Run
from neatledger.core.tree.address import Address
from neatledger.office.read import parse_plan

TODAY, NOW, DAY = date(2026, 6, 15), datetime(2026, 6, 15, 12, tzinfo=UTC), timedelta(days=1)
PLAN = parse_plan(
    "office: X\nsystems: {barn: {source: tree, path: ., homes: [/Homes]}}\npeople:\n"
    "  ada: {name: Ada}\n  ben: {name: Ben, end: 2026-06-15}\n  cy: {name: Cy, end: 2026-06-14}\n",
    "office.yaml",
)  # fmt: skip
PLACE = Address("barn", b"/a")
NIGHTLY = BackupRule(
    "nightly", (b"/",), without=(b"/tmp",), disk="two", every=DAY, keep=30 * DAY, tried=date(2025, 6, 15)
)
Facts = dict[str, Any]


def place(**more: Any) -> Facts:
    standing = {
        "wanted": Wanted(loss=DAY),
        "points": ["p"],
        "faults": (),
        "unknown": (),
        "is_synced": False,
        "doubts": (),
    }
    beside = {name: more.pop(name) for name in ("destroyers", "unreached") if name in more}
    named = {"address": PLACE, "destroyers": (), "unreached": (), "standing": SimpleNamespace(**standing | more)}
    return {"places": [SimpleNamespace(**named | beside)]}


def backup(**more: Any) -> Facts:
    return {"system": SystemProtection(disk="one", backups=(replace(NIGHTLY, **more),))}


def runs(*some: Run, **more: Any) -> Facts:
    return {**backup(**more), "found": {"barn": FoundProtection(runs=some)}}


def ran(hours: float, size: int | None = 100, is_done: bool | None = True, name: str = "nightly") -> Run:
    return Run(name, NOW - timedelta(hours=hours), size, None, is_done)


def keys(*holders: str, found: Mapping[bytes, bool] | None = None) -> Facts:
    system = SystemProtection(encrypted=(EncryptedFolder(b"/a", holders),))
    return {"system": system, "found": {"barn": FoundProtection(encrypted=found or {})}}


def kept(reach: timedelta | None, *rules: BackupRule | SnapshotRule) -> Facts:
    snapshots = tuple(one for one in rules if isinstance(one, SnapshotRule))
    backups = tuple(one for one in rules if isinstance(one, BackupRule))
    return {**place(wanted=Wanted(reach=reach)), "system": SystemProtection(snapshots=snapshots, backups=backups)}


SNAP = SnapshotRule(b"/a", b"/.s", keep=7 * DAY)
# A check, what there is, and what it says of it (nothing: it finds none).
TOLD: list[tuple[str, Facts, str | None]] = [
    ("no-protection", place(points=[], faults=("f",), unknown=("u",)), "f; u"), ("no-protection", place(), None),
    ("no-protection", place(points=[], wanted=Wanted()), None), ("weaker-protection", place(faults=("f", "g")), "f; g"),
    ("weaker-protection", place(), None), ("weaker-protection", place(points=[], faults=("f",)), None),
    ("homes-not-in-backup", backup(), None), ("homes-not-in-backup", backup(without=(b"/Homes",)), "no backup has them (nightly)"),
    ("homes-not-in-backup", {"system": SystemProtection()}, None), ("homes-not-in-backup", backup(of=(b"/Homes/x",)), "no backup has them (nightly)"),
    ("synced-is-no-backup", place(is_synced=True, points=[]), "only copied as it changes"), ("synced-is-no-backup", place(is_synced=True), None),
    ("synced-is-no-backup", place(points=[]), None), ("copy-on-same-disk", backup(), None), ("copy-on-same-disk", backup(disk="one"), "both lie on one"),
    ("copy-on-same-disk", {"system": SystemProtection(backups=(replace(NIGHTLY, disk=""),))}, None),
    ("backup-late", runs(ran(48)), None), ("backup-late", runs(ran(48.1)), "was 2 days ago, and it is to run every 1 day"),
    ("backup-late", runs(ran(48.1), ran(1)), None), ("backup-late", runs(ran(1, is_done=False), ran(50)), "2 days ago"),
    ("backup-late", runs(ran(1, is_done=None)), "no run of it is known"), ("backup-late", runs(ran(1, name="other")), "no run of it is known"),
    ("backup-late", runs(every=None), None), ("backup-late", runs(), "no run of it is known"),
    ("backup-shrunk", runs(*(ran(n) for n in (3, 2, 1)), ran(0, 49)), "holds 49 bytes, those before 100"),
    ("backup-shrunk", runs(*(ran(n) for n in (3, 2, 1)), ran(0, 50)), None), ("backup-shrunk", runs(*(ran(n) for n in (2, 1)), ran(0, 49)), None),
    ("backup-shrunk", runs(*(ran(n) for n in (3, 2, 1)), ran(0, 49, is_done=False)), None), ("backup-shrunk", runs(ran(0, 49), *(ran(n) for n in (3, 2, 1))), "holds 49"),
    ("backup-shrunk", runs(*(ran(n) for n in (4, 3, 2)), ran(1, 49), ran(0, None)), "holds 49"),
    ("backup-shrunk", runs(ran(4, 60), ran(3, 80), ran(2, 140), ran(1, 160), ran(0, 49)), "holds 49 bytes, those before 110"),
    ("backup-never-tried", backup(), None), ("backup-never-tried", backup(tried=date(2025, 6, 14)), "last brought back from it on 2025-06-14"),
    ("backup-never-tried", backup(tried=None), "nothing was ever brought back"),
    ("copies-in-reach", place(destroyers=("ada", "root")), "ada can alter the folder and every copy of it"), ("copies-in-reach", place(destroyers=("root",)), None),
    ("copies-in-reach", place(destroyers=("ada",), points=[]), None), ("copies-in-reach", place(destroyers=("ada",), unreached=("tape",)), None),
    ("key-of-nobody", keys(), "nobody is said to hold its key"), ("key-of-nobody", keys("cy"), "hold its key: cy has left"), ("key-of-nobody", keys("ben"), None),
    ("key-of-one", keys("ada", "cy"), "ada alone holds its key"), ("key-of-one", keys("ada", "ben"), None), ("key-of-one", keys("cy"), None),
    ("key-holder-leaves", keys("ben"), "ben holds its key, and their last day is 2026-06-15"), ("key-holder-leaves", keys("cy", "ada", "nobody"), None),
    ("device-not-encrypted", keys(found={b"/a": False}), "is not encrypted"), ("device-not-encrypted", keys(found={b"/a": True}), None),
    ("device-not-encrypted", keys(), None), ("keeps-less-than-plan", {"less": {"barn": ("x", "y")}}, "x; y"), ("keeps-less-than-plan", {}, None),
    ("bringing-back-not-known", place(doubts=("x", "y")), "x; y"), ("bringing-back-not-known", place(doubts=("x",), points=[]), None),
    ("bringing-back-not-known", place(), None), ("documents-without-versions", {"unversioned": {"barn": 7}}, "no snapshot is made: 7"),
    ("documents-without-versions", {}, None), ("kept-too-short", kept(8 * DAY, SNAP), "kept for 7 days, and it must go back 8 days"),
    ("kept-too-short", kept(7 * DAY, SNAP), None), ("kept-too-short", kept(8 * DAY, SNAP, NIGHTLY), None), ("kept-too-short", kept(31 * DAY, SNAP, NIGHTLY), "kept for 30 days"),
    ("kept-too-short", kept(31 * DAY), None), ("kept-too-short", kept(31 * DAY, replace(NIGHTLY, keep=None)), None), ("kept-too-short", kept(None, SNAP), None),
    ("kept-too-short", kept(8 * DAY, replace(SNAP, of=b"/b")), None), ("kept-too-short", kept(31 * DAY, replace(NIGHTLY, without=(b"/a",))), None),
]  # fmt: skip


@pytest.mark.parametrize(("check", "told", "words"), TOLD, ids=range(len(TOLD)))
def test_what_a_check_of_protection_says(check: str, told: Facts, words: str | None, recorded) -> None:
    told = dict(told)
    systems = {"barn": told.pop("system", SystemProtection())}
    plan = replace(PLAN, today=TODAY, protection=ProtectionPlan(systems=systems))
    protection = ProtectionFacts(NOW, administrators=frozenset({"root"}), **told)
    nothing = SpaceFacts((), lambda _: None, (), {}, {}, {}, (), (), ())  # type: ignore[arg-type,return-value]
    office = OfficeFacts(plan, [], TODAY, lambda: nothing, list, load_protection=lambda: protection)
    found = [one for one in CHECKS[check].find(office) if one.check == check]
    assert [words in one.evidence for one in found] == ([True] if words is not None else [])
    recorded([f"{one.place}: {one.evidence} | {one.advice} | {one.cause} | {one.people}" for one in found])


def test_every_check_of_protection_is_tried_on_both_sides() -> None:
    names = {name for name, _, _ in TOLD}
    assert all({bool(words) for name, _, words in TOLD if name == one} == {True, False} for one in names)
    assert {one.name for one in CHECKS.values() if one.find.__module__.endswith("checks.protection")} == names


LENGTHS = [
    (1, "1 minute"), (59, "59 minutes"), (60, "1 hour"), (61, "61 minutes"), (119, "119 minutes"), (120, "2 hours"), (121, "2 hours"), (1439, "23 hours"),
    (1440, "1 day"), (1441, "24 hours"), (2879, "47 hours"), (2880, "2 days"), (525_600, "1 year"), (525_601, "365 days"), (1_051_199, "729 days"), (1_051_200, "2 years"),
]  # fmt: skip


@pytest.mark.parametrize(("minutes", "words"), LENGTHS)
def test_a_length_of_time_is_told_in_the_unit_that_it_fills(minutes: int, words: str) -> None:
    assert show_duration(timedelta(minutes=minutes)) == words


@pytest.mark.parametrize(("text", "length"), [
    ("15 minutes", timedelta(minutes=15)), ("1 day", DAY), (" 2  months ", 60 * DAY), ("1 year", 365 * DAY), ("99999 hours", timedelta(hours=99_999)),
    ("100000 hours", None), ("0 days", None), ("-1 days", None), ("1.5 days", None), ("day", None), ("1", None), ("1 moon", None), ("", None),
])  # fmt: skip
def test_a_length_of_time_is_read_or_refused(text: str, length: timedelta | None) -> None:
    if length is not None:
        assert parse_duration(text) == length
    else:
        with pytest.raises(ValueError, match="is no length of time"):
            parse_duration(text)
