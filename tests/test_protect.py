"""Would it come back: random plans and runs against a slow evaluator, a real Btrfs, what is not known, every check."""

from __future__ import annotations

import csv
import io
import json
import os
import random
import re
import subprocess
import tempfile
import time
from datetime import UTC, datetime, timedelta
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from judges import btrfs
from neatledger.core.plan.protection import (
    BackupRule,
    ProtectionPlan,
    SnapshotRule,
    SystemProtection,
    Wanted,
    parse_duration,
    show_duration,
)
from neatledger.core.protection.found import FoundProtection, FoundSnapshot, Run
from neatledger.core.protection.standing import standing_of
from neatledger.core.protection.supposing import Supposed, as_it_is_said, supposed_rules
from neatledger.core.tree.address import Address

NOW = datetime(2026, 11, 20, 12, tzinfo=UTC)
FOLDERS = [b"/", b"/a", b"/a/b", b"/a/b/c", b"/ab", b"/d", b"/d/e"]


def rows(text: str) -> list[dict[str, str]]:
    return list(csv.DictReader(io.StringIO(text)))


def made(rng: random.Random) -> tuple[SystemProtection, FoundProtection]:
    snapshots = tuple(SnapshotRule(one, b"/snaps") for one in rng.sample(FOLDERS, rng.randint(0, 2)))
    backups = tuple(
        BackupRule(
            f"b{number}", tuple(rng.sample(FOLDERS, rng.randint(1, 2))), tuple(rng.sample(FOLDERS[2:], rng.randint(0, 1))),
            rng.choice(["disk", "tape", ""]), rng.choice(["here", "there", ""]),
            keep=rng.choice([None, timedelta(days=20)]), took=rng.choice([None, timedelta(hours=2), timedelta(hours=9)]),
        )
        for number in range(rng.randint(0, 3))
    )  # fmt: skip
    found = FoundProtection(
        [FoundSnapshot(one.of, NOW - timedelta(hours=rng.randint(-5, 900)), b"/snaps/x") for one in dict.fromkeys(snapshots) for _ in range(rng.randint(0, 3))],
        [Run(one.name, NOW - timedelta(hours=rng.randint(-5, 900)), is_done=rng.choice([True, True, False, None])) for one in backups for _ in range(rng.randint(0, 3))],
        {f"backup {one.name}": "gone" for one in backups if rng.random() < 0.1},
    )  # fmt: skip
    return SystemProtection("disk", "here", snapshots, backups), found


@pytest.mark.seeds(2)
def test_every_verdict_is_that_of_a_slow_search_and_nothing_unknown_protects(seed: int) -> None:
    for number in range(150):
        rng = random.Random(seed * 1000 + number)
        system, found = made(rng)
        path = rng.choice(FOLDERS)
        wanted = Wanted(
            loss=rng.choice([None, timedelta(days=rng.randint(1, 20))]), reach=rng.choice([None, timedelta(days=rng.randint(1, 40))]),
            copies=rng.choice([None, 0, 1, 2]), elsewhere=rng.choice([None, True, False]), back=rng.choice([None, timedelta(hours=4)]),
        )  # fmt: skip
        told = standing_of(path, wanted, system, found, NOW)
        # Every thing that would bring it back, one by one.
        points = []
        for snapshot in found.snapshots:
            for _ in [one for one in system.snapshots if one.of == snapshot.of and _in(path, one.of)]:
                if snapshot.moment <= NOW:
                    points.append((snapshot.moment, "disk", "here", None))
        for rule in system.backups:
            for run in found.runs:
                is_of = run.backup == rule.name and any(_in(path, one) for one in rule.of)
                is_left = any(_in(path, one) for one in rule.without)
                is_kept = rule.keep is None or NOW - run.moment <= rule.keep
                if is_of and not is_left and is_kept and run.is_done is True and run.moment <= NOW:
                    points.append((run.moment, rule.disk, rule.place, rule.took))
        assert sorted(one.moment for one in told.points) == sorted(moment for moment, *_ in points)
        assert told.loss == (NOW - max(moment for moment, *_ in points) if points else None)
        assert told.reach == (NOW - min(moment for moment, *_ in points) if points else None)
        disks = {disk for _, disk, *_ in points} - {"", "disk"}
        elsewhere = bool({place for _, _, place, _ in points} - {"", "here"})
        # How soon: from those that lose no more than is wanted, or from all where none does.
        near = [one for one in points if wanted.loss is not None and NOW - one[0] <= wanted.loss] or points
        lengths = [took for *_, took in near]
        is_soon = any(took is not None and took <= timedelta(hours=4) for took in lengths)
        is_asked = bool(points) and wanted.back is not None and not is_soon
        assert told.back == min((took for took in lengths if took is not None), default=None)
        assert len(told.doubts) == (is_asked and None in lengths)
        assert told.copies == disks and told.is_elsewhere == elsewhere
        bad = [
            bool(points) and wanted.loss is not None and told.loss > wanted.loss,
            bool(points) and wanted.reach is not None and told.reach < wanted.reach,
            bool(points) and wanted.copies is not None and len(disks) < wanted.copies,
            bool(points) and bool(wanted.elsewhere) and not elsewhere,
            not points and wanted != Wanted(),
            is_asked and None not in lengths,
        ]
        assert len(told.faults) == sum(bad)
        assert FoundProtection.of_facts(json.loads(json.dumps(found.to_facts()))) == FoundProtection(
            list(found.snapshots), list(found.runs), found.unread, {}
        )


@given(st.integers(0, 2**32))
def test_rules_supposed_lose_their_rhythm_at_most_and_go_back_as_far_as_they_are_kept(seed: int) -> None:
    rng = random.Random(seed)
    rules, _ = made(rng)
    every = {one.name: timedelta(hours=rng.randint(1, 99)) for one in rules.backups if rng.random() < 0.8}
    keep = {name: every[name] * rng.randint(1, 50) for name in every}
    into = {one.name: [rng.choice(FOLDERS)] for one in rules.backups if rng.random() < 0.4}
    then = supposed_rules(rules, Supposed(into, every, keep))
    for folder in FOLDERS:
        standing = standing_of(folder, Wanted(), then, as_it_is_said(then, NOW), NOW)
        holding = [
            one.name
            for one in rules.backups
            if one.name in every
            and any(_in(folder, of) for of in (*one.of, *into.get(one.name, ())))
            and not any(_in(folder, left) for left in one.without if left not in into.get(one.name, ()))
        ]
        assert standing.loss == min((every[name] for name in holding), default=None)
        assert standing.reach == max((keep[name] for name in holding), default=None)


def _in(path: bytes, folder: bytes) -> bool:
    parts, above = path.strip(b"/").split(b"/"), folder.strip(b"/").split(b"/")
    return folder == b"/" or parts[: len(above)] == above


def test_what_is_wanted_comes_from_above_until_a_deeper_folder_says_otherwise() -> None:
    day = timedelta(days=1)
    plan = ProtectionPlan({
        Address("barn", b"/"): Wanted(loss=day, copies=1), Address("barn", b"/a"): Wanted(reach=9 * day), Address("barn", b"/a/b"): Wanted(loss=2 * day, copies=0),
    })  # fmt: skip
    assert plan.wanted_at(Address("barn", b"/a/b/c")) == Wanted(loss=2 * day, reach=9 * day, copies=0)
    assert plan.wanted_at(Address("barn", b"/ab")) == Wanted(loss=day, copies=1)
    assert plan.wanted_at(Address("loft", b"/a")).is_nothing


@given(st.integers(1, 5000), st.sampled_from(["minute", "hour", "day", "week", "month", "year"]))
def test_lengths_of_time_come_back_no_longer_than_they_were(number: int, unit: str) -> None:
    length = parse_duration(f"{number} {unit}s")
    shown = parse_duration(show_duration(length))
    assert shown <= length and length - shown < max(length / 2, timedelta(minutes=1))
    for bad in ("", "1", "day", "-1 day", "1 fortnight", "1.5 days", "0 days"):
        with pytest.raises(ValueError):
            parse_duration(bad)


PLAN = """office: P
people:
  ada: {{name: Ada, accounts: {{barn: ada}}}}
protection:
  barn:/work: {{loss: 1 hour, reach: 2 days}}
systems:
  barn:
    source: tree
    path: {top}
    accounts: {{passwd: passwd, group: group}}
    protection: {{disk: d, snapshots: [{{of: /work, where: /snaps}}]}}
"""


@pytest.mark.judge
@pytest.mark.skipif(os.geteuid() != 0, reason="only root may mount")
@pytest.mark.seeds(2)
def test_snapshots_of_a_real_file_system_bring_back_what_is_told(run, tmp_path: Path, seed: int) -> None:
    rng = random.Random(seed)
    with tempfile.TemporaryDirectory(dir="/tmp") as name, btrfs.mounted(Path(name)) as top:
        work, snaps = top / "work", top / "snaps"
        snaps.mkdir()
        for words in (["subvolume", "create", work], ["subvolume", "create", top / "other"]):
            subprocess.run(["btrfs", *words], check=True, capture_output=True)
        kept: dict[str, dict[str, bytes]] = {}
        (work / "deep" / "er").mkdir(parents=True)
        for number in range(4):
            for _ in range(rng.randint(1, 6)):
                file = work / rng.choice(["", "deep", "deep/er"]) / f"f{rng.randrange(5)}"
                file.unlink(missing_ok=True) if rng.random() < 0.2 else file.write_bytes(rng.randbytes(20))
            flags = ["-r"] if number % 2 else []
            subprocess.run(
                ["btrfs", "subvolume", "snapshot", *flags, work, snaps / f"s{number}"],
                check=True,
                capture_output=True,
            )
            kept[f"s{number}"] = files_in(work)
            time.sleep(1.1)
        # Of another subvolume, and a folder that is none: these bring back nothing.
        subprocess.run(
            ["btrfs", "subvolume", "snapshot", top / "other", snaps / "of-other"], check=True, capture_output=True
        )
        (snaps / "plain").mkdir()
        subprocess.run(["btrfs", "subvolume", "delete", snaps / "s1"], check=True, capture_output=True)
        office = tmp_path / "o"
        office.mkdir()
        (office / "office.yaml").write_text(PLAN.format(top=top))
        (office / "passwd").write_text("ada:x:1001:1001:Ada:/:/bin/sh\n")
        (office / "group").write_text("ada:x:1001:\n")
        for number in rng.sample(range(5), 2):
            (work / "deep" / f"f{number}").write_bytes(b"written since")
        run("count", "--no-check", "--quiet", "--office", office)
        told = {
            row["where"]: row
            for where in ("barn:/work", "barn:/work/deep/er")
            for row in rows(run("protect", where, "--format", "csv", "--office", office, status=None).stdout)
        }
        assert all(one["state"] == "weaker" and "restores go back" in one["why"] for one in told.values())
        found = _found(office)
        assert sorted(Path(os.fsdecode(one.where)).name for one in found.snapshots) == ["s0", "s2", "s3"]
        assert {Path(os.fsdecode(one.where)).name: one.is_read_only for one in found.snapshots} == {
            "s0": False,
            "s2": False,
            "s3": True,
        }
        made = {name: _made_at(snaps / name) for name in ("s0", "s2", "s3")}
        newest, oldest = (max(made, key=made.__getitem__), min(made, key=made.__getitem__))
        taken = max(one.stat().st_mtime for one in office.glob("ledger.db*"))
        for row in told.values():
            assert abs(int(row["loss_minutes"]) * 60 - (taken - made[newest])) < 90
            assert abs(int(row["reach_days"]) * 86400 - (taken - made[oldest])) < 86400
        # What the tool names brings the bytes back, of a folder in it too.
        for where, inside in (("barn:/work", ""), ("barn:/work/deep/er", "deep/er/")):
            assert told[where]["newest"] == f"barn:/snaps/{newest}/{inside}".rstrip("/")
            there = files_in(Path(str(top) + told[where]["newest"].removeprefix("barn:")))
            wanted = {
                name.removeprefix(inside): text for name, text in kept[newest].items() if name.startswith(inside)
            }
            assert there == wanted
        # File by file: what differs from the newest snapshot was written since, or is gone.
        changed = [name for name, text in files_in(work).items() if kept[newest].get(name) != text]
        whole = told["barn:/work"]
        assert int(whole["written_least"]) <= len(changed) <= int(whole["written_most"])


def files_in(folder: Path) -> dict[str, bytes]:
    return {str(one.relative_to(folder)): one.read_bytes() for one in folder.rglob("*") if one.is_file()}


def _made_at(subvolume: Path) -> float:
    shown = subprocess.run(
        ["btrfs", "subvolume", "show", subvolume], check=True, capture_output=True, text=True
    ).stdout
    when = re.search(r"Creation time:\s+(.+)", shown)
    assert when is not None
    return datetime.strptime(when[1].strip(), "%Y-%m-%d %H:%M:%S %z").timestamp()


def _found(office: Path) -> FoundProtection:
    from neatledger.questions import open_office
    from neatledger.questions.protect import found_on

    return found_on(open_office(office), "barn")


def test_what_cannot_be_read_is_said_and_protects_nothing(tmp_path: Path, run) -> None:
    (tmp_path / "tree" / "work").mkdir(parents=True)
    plan = PLAN.format(top="tree").replace(
        "snapshots: [{of: /work, where: /snaps}]",
        "snapshots: [{of: /work, where: /none, form: YYYYMMDD}, {of: /work, where: /work}], backups: [{name: n, of: [/work], runs: runs.csv}, {name: m, of: [/work]}]",
    )
    (tmp_path / "office.yaml").write_text(plan)
    (tmp_path / "passwd").write_text("ada:x:1001:1001:Ada:/:/bin/sh\n")
    (tmp_path / "group").write_text("ada:x:1001:\n")
    for text, words in (
        (None, "cannot be read"), ("when,done\nyesterday,yes\n", "Invalid isoformat"),
        ("when,done\n2026-11-19T02:00:00Z,perhaps\n", "nobody told whether it came to its end"),
    ):  # fmt: skip
        if text is not None:
            (tmp_path / "runs.csv").write_text(text)
        run("count", "--no-check", "--quiet", "--office", tmp_path)
        (told,) = [
            row
            for row in rows(run("protect", "--format", "csv", "--office", tmp_path, status=1).stdout)
            if row["where"] == "barn:/work"
        ]
        assert told["state"] == "not known" and words in told["why"] and "was not found" in told["why"], told
    (tmp_path / "tree" / "none").mkdir()
    for name in ("20261118", "20261119", "none of these"):
        (tmp_path / "tree" / "none" / name).mkdir()
    run("count", "--no-check", "--quiet", "--office", tmp_path)
    assert len(_found(tmp_path).snapshots) == 2
    (tmp_path / "office.yaml").write_text(
        plan.replace("{name: m, of: [/work]}", "{name: n, of: [/work], at: 'loft:/x'}").replace(
            "barn:/work:", "brn:/work:"
        )
    )
    said = run("plan", "--office", tmp_path, status=2).stderr
    assert "a name of its own" in said and said.count("a system of this plan") == 2


def test_a_copy_within_reach_of_the_people_of_a_folder_is_told(demo: Path, run) -> None:
    told = {
        row["where"]: row
        for row in rows(run("protect", "--format", "csv", "--office", demo, "--today", "2026-11-23", status=1).stdout)
    }
    assert (
        told["barn:/Rota"]["destroyers"].startswith("birch, ")
        and "not known of" not in told["barn:/Rota"]["destroyers"]
    )
    assert "not known of backup nightly" in told["barn:/Payroll"]["destroyers"]
    who = {
        row["person"]
        for row in rows(run("who", "barn:/Rota", "--format", "csv", "--office", demo).stdout)
        if row["add"] == "1"
    }
    there = {
        row["person"]
        for row in rows(run("who", "barn:/Incoming scans", "--format", "csv", "--office", demo).stdout)
        if row["add"] == "1"
    }
    assert len(who & there) == int(re.search(r"and (\d+) more", told["barn:/Rota"]["destroyers"])[1]) + 4
    assert told["barn:/Notices"]["state"] == "unprotected" and "synchronised" in told["barn:/Notices"]["why"]


def test_what_other_rules_would_bring_is_told_beside_what_is(demo: Path, run) -> None:
    def ask(*words: str, status: int = 1) -> str:
        done = run("suppose", *words, "--format", "csv", "--office", demo, "--today", "2026-11-23", status=status)
        return done.stderr if status == 2 else done.stdout

    then = {
        row["where"]: row
        for row in rows(ask("--backup", "barn:/Homes=nightly", "--backup-every", "barn:mirror=1 day"))
    }
    homes, rota = then["barn:/Homes"], then["barn:/Rota"]
    assert (homes["state"], homes["then_state"], homes["then_loss"], homes["then_reach"]) == (
        "unprotected", "as wanted", "1 day", "60 days",
    )  # fmt: skip
    space = rows(run("space", "barn:/Homes", "--format", "csv", "--office", demo).stdout)
    size = int(space[-1]["apparent_bytes"])
    assert (int(homes["least_bytes"]), int(homes["most_bytes"])) == (size, 60 * size)
    assert rota["then_loss"] == "1 day" and not rota["least_bytes"]
    assert "go back 60 days" in then["barn:/Payroll"]["why"]
    longer = run(
        "suppose",
        "barn:/Payroll",
        "--backup-kept",
        "barn:nightly=1 year",
        "--format",
        "csv",
        "--office",
        demo,
        status=0,
    )
    assert [row["then_reach"] for row in rows(longer.stdout)] == ["1 year"]
    assert "no rule of barn is called 'nightlie'" in ask("--backup-every", "barn:nightlie=1 day", status=2)
    assert "such as 15 minutes" in ask("--backup-every", "barn:nightly=often", status=2)
    assert "names no system" in ask("--backup-kept", "nightly=1 day", status=2)


def test_documents_are_without_versions_where_the_plan_says_that_none_is_kept(tmp_path: Path, run) -> None:
    for name in ("snapped/a.odt", "snapped/deep/b.ODS", "free/c.txt", "free/d.jpg", "free/e.docx"):
        (tmp_path / "tree" / name).parent.mkdir(parents=True, exist_ok=True)
        (tmp_path / "tree" / name).write_text(name)
    (tmp_path / "passwd").write_text("ada:x:1001:1001:Ada:/:/bin/sh\n")
    (tmp_path / "group").write_text("ada:x:1001:\n")
    plan = PLAN.format(top="tree").replace("of: /work", "of: /snapped")
    for rules, files in (
        ("keep-versions: 0", 2), ("keep-versions: {others: 0, txt: 3}", 1), ("keep-versions: 3", None), ("bin: [/bin]", None),
    ):  # fmt: skip
        text = plan.replace("\n    protection:", f"\n    space: {{{rules}}}\n    protection:")
        assert text != plan
        (tmp_path / "office.yaml").write_text(text)
        run("count", "--no-check", "--quiet", "--office", tmp_path)
        only = ("--only", "documents-without-versions", "--format", "csv", "--office", tmp_path)
        told = rows(run("check", *only, status=0 if files is None else 1).stdout)
        assert [row["evidence"].rpartition(": ")[2] for row in told] == [str(files)] * (files is not None), rules


@pytest.mark.parametrize("seed", range(3))
def test_files_written_since_the_last_copy_lie_within_what_is_told(tmp_path: Path, run, seed: int) -> None:
    rng = random.Random(seed)
    moment = datetime.now(UTC).replace(microsecond=0) - timedelta(hours=3)
    for number in range(60):
        path = (
            tmp_path
            / "tree"
            / rng.choice(["work", "work/a", "work/a/b", "other"])
            / f"f{number}.{rng.choice(['odt', 'txt'])}"
        )
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_bytes(b"x" * rng.randint(0, 9000))
        os.utime(path, (0, moment.timestamp() + rng.choice([-9000, -1, 1, 9000])))
        if rng.random() < 0.2:
            os.link(path, path.with_name(f"again{number}"))
    (tmp_path / "passwd").write_text("ada:x:1001:1001:Ada:/:/bin/sh\n")
    (tmp_path / "group").write_text("ada:x:1001:\n")
    backup = "backups: [{name: n, of: [/work], runs: runs.csv}]"
    plan = PLAN.format(top="tree").replace("snapshots: [{of: /work, where: /snaps}]", backup)
    (tmp_path / "office.yaml").write_text(plan)
    (tmp_path / "runs.csv").write_text(f"when,done\n{moment.isoformat()},yes\n")
    run("count", "--no-check", "--quiet", "--office", tmp_path)

    def ask(*words: str) -> dict[str, str]:
        told = rows(run("protect", "barn:/work", *words, "--format", "csv", "--office", tmp_path, status=1).stdout)
        return next(row for row in told if row["where"] == "barn:/work")

    facts = [one.stat() for one in (tmp_path / "tree" / "work").rglob("*") if one.is_file()]
    true = [one for one in facts if one.st_mtime >= moment.timestamp()]
    told = ask()
    assert int(told["written_least"]) <= len(true) <= int(told["written_most"]) <= len(facts)
    assert sum(one.st_size for one in true) <= int(told["written_bytes"]) <= sum(one.st_size for one in facts)
    for one in (tmp_path / "tree" / "work").rglob("*"):
        os.utime(one, (0, moment.timestamp() - 60))
    run("count", "--no-check", "--quiet", "--office", tmp_path)
    assert (ask()["written_least"], ask()["written_most"]) == ("0", "0")
    later = datetime.now(UTC) + timedelta(seconds=1)
    (tmp_path / "runs.csv").write_text(f"when,done\n{later.isoformat()},yes\n")
    run("count", "--no-check", "--quiet", "--office", tmp_path)
    day = (later + timedelta(days=2)).date().isoformat()
    assert not ask("--today", day)["written_most"]
