"""Rights beside use: random trees and histories against a slow evaluator; moves, gaps, what would be missed."""

from __future__ import annotations

import csv
import io
import json
import os
import random
from collections.abc import Sequence
from datetime import UTC, datetime, timedelta
from pathlib import Path

import pytest

from neatledger.core.trail.coverage import Coverage, Gap, common_coverage
from neatledger.core.trail.moves import Move, Moves

START = datetime(2026, 1, 5, 12, tzinfo=UTC)
PEOPLE = [f"p{number}" for number in range(8)]
GROUPS = [f"g{number}" for number in range(5)]
pytestmark = pytest.mark.skipif(os.geteuid() != 0, reason="only root may give folders to groups")


class Made:
    """An office of one tree whose folders belong to groups, and a year of what was done there."""

    def __init__(self, folder: Path, seed: int) -> None:
        self.rng = random.Random(seed)
        self.folder = folder
        self.members = {group: self.rng.sample(PEOPLE, self.rng.randint(1, 4)) for group in GROUPS}
        self.mode: dict[str, tuple[str, int]] = {}
        self.deeds: list[tuple[datetime, str, str, str]] = []  # when, who, read or change, the folder of today

    def make(self) -> None:
        tree, rng = self.folder / "tree", self.rng
        tree.mkdir(parents=True)
        tree.chmod(0o755)
        folders = ["desk"]
        for number in range(14):
            folders.append(f"{rng.choice(folders)}/f{number}")
        for one in folders:
            path = tree / one
            path.mkdir()
            above = self.mode.get(one.rpartition("/")[0], ("g0", 0o7))
            group, bits = above if rng.random() < 0.6 else (rng.choice(GROUPS), rng.choice([0o7, 0o5, 0o0]))
            self.mode[one] = group, bits
            os.chown(path, 0, 2000 + GROUPS.index(group))
            path.chmod(0o700 | bits << 3)
        (self.folder / "passwd").write_text(
            "root:x:0:0::/:/bin/sh\n" + "".join(f"{p}:x:{1001 + n}:1000::/:/bin/sh\n" for n, p in enumerate(PEOPLE))
        )
        (self.folder / "group").write_text(
            "all:x:1000:\n" + "".join(f"{g}:x:{2000 + n}:{','.join(self.members[g])}\n" for n, g in enumerate(GROUPS))
        )
        people = "".join(f"  {p}: {{name: {p}, accounts: {{loft: {p}}}}}\n" for p in PEOPLE)
        (self.folder / "office.yaml").write_text(
            f"office: P\npeople:\n{people}systems:\n  loft: {{source: tree, path: tree, accounts: {{passwd: passwd, group: group}},"
            " logs: [{file: audit.log, form: smb, roots: {/srv/desk: /desk}}]}\n"
        )

    def log(self) -> None:
        """Write what was done: by people who may, and by some who may not but did (as administrators do)."""
        rng, folders = self.rng, list(self.mode)
        # Two folders had another name until some day; what is below them had it too.
        moved = {one: START + timedelta(days=rng.randint(30, 280)) for one in rng.sample(folders[1:], 2)}
        lines = []
        for one, moment in moved.items():
            later = [other for other, then in moved.items() if then > moment]
            lines.append((moment, "p0", f"renameat|ok|/srv/{_old(one, [one, *later])}|/srv/{_old(one, later)}"))
        quiet = set(rng.sample(folders, 6))
        for _ in range(300):
            when = START + timedelta(minutes=rng.randrange(60, 318 * 1440))
            folder, who = rng.choice(folders), rng.choice(PEOPLE)
            if folder in quiet and rng.random() < 0.95:
                continue
            act = rng.choice(["read", "read", "change"])
            name = _old(folder, [one for one, moment in moved.items() if when < moment])
            mask = "0x89" if act == "read" else "0x112"
            lines.append((when, who, f"create_file|ok|{mask}|file|open|/srv/{name}/x.txt"))
            self.deeds.append((when, who, act, folder))
        # Of folders that were renamed something is in the records before, by which they are known.
        for one in moved:
            lines.append((START, "nobody", f"create_file|ok|0x89|file|open|/srv/{_old(one, list(moved))}/x"))
        lines += [(START, "nobody", "create_file|ok|0x89|file|open|/srv/desk/x")]
        text = "".join(
            f"{when.isoformat()} loft smbd_audit: {who}|10.0.0.1|d|desk|{rest}\n" for when, who, rest in sorted(lines)
        )
        (self.folder / "audit.log").write_text(text)


def _old(folder: str, moved: Sequence[str]) -> str:
    """Return what a folder was called while some folders at or above it had their old names."""
    parts = folder.split("/")
    return "/".join(f"old-{part}" if "/".join(parts[: at + 1]) in moved else part for at, part in enumerate(parts))


def slow(made: Made, cut: datetime) -> set[tuple[str, ...]]:
    """Return what is unused, looked up one by one."""
    found: set[tuple[str, ...]] = set()
    last_any = {p: max((w for w, who, _, _ in made.deeds if who == p), default=None) for p in PEOPLE}
    idle = {p for p, last in last_any.items() if last is None or last < cut}
    found |= {("account", p, "", _day(last_any[p])) for p in idle}
    for group in GROUPS:
        named = {one for one, (g, bits) in made.mode.items() if g == group and bits}
        tops = [one for one in named if one.rpartition("/")[0] not in named]
        if not tops:
            continue
        unused_tops = []
        for top in tops:
            region = {one for one in named if one == top or (one.startswith(f"{top}/") and all(
                "/".join(one.split("/")[:n]) in named for n in range(len(top.split("/")), len(one.split("/")))
            ))}  # fmt: skip
            uses = [(w, act) for w, who, act, f in made.deeds if f in region and who in made.members[group]]
            last = max((w for w, _ in uses), default=None)
            change = max((w for w, act in uses if act == "change"), default=None)
            if last is None or last < cut:
                unused_tops.append((top, last))
            elif made.mode[top][1] == 0o7 and (change is None or change < cut):
                found.add(("change", group, f"loft:/{top}", _day(change)))
        if len(unused_tops) == len(tops):
            last = max((last for _, last in unused_tops if last), default=None)
            found = {one for one in found if one[:2] != ("change", group)}
            found.add(("group", group, f"loft:/{tops[0]}" if len(tops) == 1 else "loft", _day(last)))
            continue
        found |= {("entry", group, f"loft:/{top}", _day(last)) for top, last in unused_tops}
        for person in set(made.members[group]) - idle:
            mine = max((w for w, who, _, f in made.deeds if who == person and f in named), default=None)
            if mine is None or mine < cut:
                found.add(("member", f"{person} in {group}", "loft", _day(mine)))
    return found


def _day(moment: datetime | None) -> str:
    return "never" if moment is None else moment.astimezone().strftime("%Y-%m-%d")


def rows(text: str) -> list[dict[str, str]]:
    return list(csv.DictReader(io.StringIO(text)))


@pytest.mark.seeds(2)
def test_unused_rights_are_those_of_a_slow_search(tmp_path: Path, seed: int, run) -> None:
    made = Made(tmp_path / "o", seed)
    made.make()
    made.log()
    office = ("--office", made.folder)
    run("count", "--no-check", "--quiet", *office)
    read = datetime.now(UTC)
    days = (read - START).days - made.rng.randint(5, 60)
    told = rows(run("unused", "--idle", str(days), "--format", "csv", *office, status=None).stdout)
    cut = read - timedelta(days=days)
    got = {(row["kind"], row["name"], "" if row["kind"] == "account" else row["where"], row["last"]) for row in told}
    assert got == slow(made, cut)
    assert not run("unused", "--idle", str((read - START).days + 1), *office).stdout.startswith("1 right")


def test_what_would_be_missed_is_counted_and_the_steps_take_nothing_that_was_used(tmp_path: Path, run) -> None:
    made = Made(tmp_path / "o", 7)
    made.make()
    made.log()
    office = ("--office", made.folder)
    run("count", "--no-check", "--quiet", *office)
    run("count", "--logs", *office)
    told = run("unused", "--idle", "200", "--try", "--steps", tmp_path / "s.json", "--format", "json", *office).stdout
    missed = json.loads(told)["rows"]
    # Whoever used something longer ago than that, and within the year, would have missed it: nobody else.
    cut = datetime.now(UTC) - timedelta(days=200)
    assert all(datetime.fromisoformat(row["last"]).astimezone() < cut for row in missed)
    assert json.loads((tmp_path / "s.json").read_text())
    assert "steps" in run("mend", tmp_path / "s.json", *office, status=None).stdout


def test_nothing_is_said_of_a_time_that_was_not_seen(tmp_path: Path, run) -> None:
    made = Made(tmp_path / "o", 1)
    made.make()
    made.log()
    office = ("--office", made.folder)
    run("count", "--no-check", "--quiet", *office)
    assert "1 right" not in run("unused", *office).stdout
    whole = (made.folder / "audit.log").read_bytes()
    text = whole.decode().splitlines(keepends=True)
    # A log that was cut: what is between is not known, and a right is not unused because of it.
    (made.folder / "audit.log").write_text("".join(text[:100]))
    run("count", "--logs", *office)
    (made.folder / "audit.log").write_text("".join(text[200:]))
    assert "another file" in " ".join(run("count", "--logs", *office).stdout.split())
    said = " ".join(run("unused", "--idle", "250", *office).stdout.split())
    assert "without a gap" in said and "250 are needed" in said
    # Without a single opening in the log, nobody knows what is read.
    (made.folder / "ledger.db").unlink()
    run("count", "--no-check", "--quiet", *office)
    (made.folder / "ledger.db").unlink()
    (made.folder / "audit.log").write_text("".join(one for one in text if "0x89" not in one))
    run("count", "--no-check", "--quiet", *office)
    assert "tells of no opening" in " ".join(run("unused", "--idle", "100", *office).stdout.split())


def test_moves_are_followed_in_both_directions() -> None:
    moves = Moves([Move(10, b"/a", b"/b"), Move(20, b"/b/x", b"/c"), Move(30, b"/d", b"/a")])
    assert moves.now(b"/a/x/y", 5) == b"/c/y" and moves.now(b"/a/x", 15) == b"/a/x" and moves.now(b"/ab", 5) == b"/ab"
    assert moves.now(b"/d/q", 1) == b"/a/q" and moves.now(b"/b/x", 15) == b"/c"
    assert [(one.path, one.until) for one in moves.earlier_names(b"/c/y")] == [(b"/b/x/y", 20), (b"/a/x/y", 10)]
    assert [one.path for one in moves.earlier_names(b"/a")] == [b"/d"]
    assert moves.moments_of(b"/a/x") == [10, 20, 30] and not moves.moments_of(b"/e")


def test_several_logs_cover_what_all_of_them_do() -> None:
    day = [START + timedelta(days=number) for number in range(10)]
    one = Coverage(day[0], day[8], (Gap(day[2], day[3], "cut"),))
    both = common_coverage([one, Coverage(day[1], day[9])])
    assert both == Coverage(day[1], day[8], one.gaps) and both.since == day[3] and both.days_seen() == 5
    assert common_coverage([]) is None
