"""The command on a small office of its own: the plan's faults, the answers, the ledger's safety."""

from __future__ import annotations

import csv
import io
import json
import os
import random
import signal
import sqlite3
import subprocess
import sys
import time
from datetime import date
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from conftest import ANY, COMMAND
from judges import kernel
from neatledger.core.checks import limits, storing
from neatledger.core.tree.address import Address
from neatledger.formats.names import decode_address, encode_bytes, show_bytes
from neatledger.ledger import store
from neatledger.office.read import load_schema, parse_plan
from neatledger.questions import open_office
from neatledger.questions.check import ask_anew


def rows_of(done) -> list[dict[str, str]]:
    return list(csv.DictReader(io.StringIO(done.stdout)))


def test_all_faults_of_a_plan_at_once_with_their_places(tmp_path: Path, run) -> None:
    (tmp_path / "office.yaml").write_text(
        "office: X\nsystems:\n  barn: {source: tree, path: x}\n  2bad: {source: trxee}\npeople:\n  ada:\n"
        "  bob: {kind: stuff, foo: 1}\nfolders:\n  barn:/x: {grants: {nobody: reed}}\n"
        "expectations:\n  - {folder: 'barn:/x', holders: []}\n"
    )
    done = run("check", "--office", tmp_path, status=2)
    places = [line.split(":")[2:4] for line in done.stderr.splitlines()]
    assert places == [["4", "3"], ["4", "18"], ["7", "15"], ["7", "22"], ["9", "30"], ["11", "5"], ["11", "25"]], (
        done.stderr
    )
    assert "one of: none, list, view, add-only, read, write, manage" in done.stderr
    (tmp_path / "office.yaml").write_text(
        "office: X\nsystems: {barn: {source: tree, path: x}}\n"
        "people: {ada: {accounts: {loft: ada}, end: 2026-02-30}}\n"
        "groups: {ada: {members: [eve]}}\nfolders:\n  barn:/a: {grants: {eve: read}}\n  barn:/a/: {}\n"
    )
    told = run("check", "--office", tmp_path, status=2).stderr
    for words in (
        "the system 'loft'",
        "a day of the calendar",
        "a group named as a person",
        "'eve'",
        "barn:/a again",
    ):
        assert words in told
    assert run("who", "barn:/", "--office", tmp_path / "none", status=2).stderr.count("\n") == 1


def test_the_schema_and_its_page_agree() -> None:
    page = (Path(__file__).parent.parent / "docs" / "plan.md").read_text()
    for key in load_schema()["properties"]:
        assert f"`{key}`" in page
    with pytest.raises(Exception, match="expected"):
        parse_plan("office: 7\nsystems: {}\n", "x")


def test_demo_is_the_same_for_real_and_as_a_listing(demo: Path, run, tmp_path: Path) -> None:
    listed = rows_of(run("reach", "--all", "--format", "csv", "--office", demo))
    assert len({row["person"] for row in listed}) > 26
    if os.geteuid() == 0:
        run("demo", tmp_path / "real", "--no-tour")
        assert rows_of(run("reach", "--all", "--format", "csv", "--office", tmp_path / "real")) == listed
        found = [
            run("check", "--format", "json", "--office", each, status=1).stdout for each in (demo, tmp_path / "real")
        ]
        rows = [[row for row in json.loads(text)["rows"] if row["check"] != "not-seen"] for text in found]
        # A file system needs blocks for lists that a listing does not show: figures of space differ a little.
        of_space = {check.name for family in (limits, storing) for check in family.CHECKS}
        for each in rows:
            for row in each:
                row["evidence"] = "" if row["check"] in of_space else row["evidence"]
                if row["check"] == "plan-differs" and row["place"].startswith("meadow:"):
                    # Over the wire an entry does not say whether it names a person or a group.
                    row["evidence"] = row["evidence"].partition(" — by ")[0]
        assert [row for row in rows[0] if row["place"] != "loft"] == [
            row for row in rows[1] if row["place"] != "loft"
        ]


def test_the_checks_are_listed_where_there_is_no_office(run, tmp_path) -> None:
    assert "plan-differs" in run("check", "--list", cwd=tmp_path).stdout


def test_every_check_finds_its_planted_example(demo: Path, run) -> None:
    listed = {row["check"] for row in rows_of(run("check", "--list", "--format", "csv", "--office", demo))}
    found = set()
    for day in ("2026-11-16", "2026-11-23"):
        done = run("check", "--format", "csv", "--as-of", day, "--today", day, "--office", demo, status=1)
        found |= {row["check"] for row in rows_of(done)}
    # Nothing is mounted in a sample: what is mounted the kernel judges.
    assert found == listed - {"write-on-read-only"}


def test_findings_are_accepted_until_their_day(demo: Path, run) -> None:
    for day, accepted in (("2026-09-30", 1), ("2026-10-01", 0)):
        done = run(
            "check",
            "--only",
            "everyone-may-write",
            "--format",
            "csv",
            "--today",
            day,
            "--office",
            demo,
            status=1,
        )
        found = {row["place"]: bool(row["accepted"]) for row in rows_of(done)}
        assert found == {"barn:/Incoming scans": bool(accepted), "loft:/Public/Drop": False}
    run("check", "--only", "no-email", "--fail-at", "medium", "--office", demo)
    before = (demo / "office.yaml").read_text()
    run("check", "--only", "name-collision", "--office", demo, status=1)
    run(
        "check",
        "--only",
        "name-collision",
        "barn:/Rota",
        "--accept",
        "both weeks stay",
        "--until",
        "2026-12-31",
        "--office",
        demo,
        "--yes",
    )
    run("check", "--only", "name-collision", "--today", "2026-11-23", "--office", demo)
    after = (demo / "office.yaml").read_text()
    assert after.startswith(before), "comments and order stay"
    (demo / "office.yaml").write_text(before)
    run("check", "--only", "no-such-check", "--office", demo, status=2)


def test_an_expectation_names_person_way_and_entry(demo: Path, run) -> None:
    done = run(
        "check",
        "--only",
        "expectation-broken",
        "--format",
        "json",
        "--as-of",
        "2026-11-16",
        "--office",
        demo,
        status=1,
    )
    found = json.loads(done.stdout)["rows"]
    (finding,) = [row for row in found if row["place"] == "barn:/Payroll"]
    assert "thistle has read too" in finding["evidence"] and "way share" in finding["evidence"]
    assert "group payroll (52506) rwx" in finding["evidence"]
    assert {row["place"] for row in found} == {
        "barn:/Payroll",
        "barn:/Incoming scans",
        "loft:/Surgery/Controlled drugs",
    }


def test_why_ends_at_the_first_gate_and_says_what_is_missing(demo: Path, run) -> None:
    told = run("why", "marsh", "barn:/Imaging/2026", "--office", demo).stdout
    assert "enter /Imaging " in told and "They cannot get through /Imaging" in told
    assert "add them to group vets or group nurses" in told
    file = run("why", "rook", "barn:/Records/2026/Dogs/Fig referral.odt", "--format", "json", "--office", demo)
    answer = json.loads(file.stdout)
    assert answer["headline"].startswith("Yes: rook has delete on barn:/Records/2026/Dogs/Fig referral.odt.")
    usual = run("why", "rook", "barn:/Records/2026/Dogs/Clover 2026.odt", "--office", demo).stdout
    assert "read change delete" in usual and "judged by the list that 5 files" in usual
    assert "no folder or file" in run("why", "rook", "barn:/Attic/none", "--office", demo, status=2).stderr


_GIVES = {
    "list": ("enter", "list"), "view": ("enter", "list", "view"), "read": ("enter", "list", "read"), "add-only": ("enter", "add"),
    "write": ("enter", "list", "read", "add"), "manage": ("enter", "list", "read", "add", "manage"),
}  # fmt: skip


def test_a_level_leaves_out_nobody_who_has_it_without_a_name_for_what_they_have(demo: Path, run) -> None:
    seen = set()
    for folder in (
        "barn:/Payroll",
        "barn:/Records/2025/From the old system",
        "loft:/Scans/Referrals",
        "meadow:/Teams/Cases 2026",
    ):
        every = rows_of(run("who", folder, "-f", "csv", "-a", "--office", demo, status=None))
        seen |= {row["level"] for row in every}
        for level, rights in _GIVES.items():
            kept = run("who", folder, "--level", level, "-f", "csv", "--office", demo, status=None)
            people = {row["person"] for row in rows_of(kept)}
            has = {row["person"] for row in every if all(row[right] == "1" for right in rights)}
            unknown = {row["person"] for row in every if row["level"] == "unknown"}
            assert people == has | unknown, (folder, level)
            said = run("who", folder, "--level", level, "--office", demo, status=None).stdout
            assert (f"of {len(unknown)} it is unknown" in said) == bool(unknown)
    assert {"mixed", "unknown"} <= seen


def test_sides_people_groups_and_changes(demo: Path, run) -> None:
    old = ("--as-of", "2026-11-16", "--office", demo)
    assert run("who", "barn:/Payroll", "--side", "both", *old, status=1).stdout.startswith(
        "barn:/Payroll: plan and found differ in 1"
    )
    planned = rows_of(run("who", "barn:/Payroll/2026", "--side", "plan", "--format", "csv", *old))
    assert {row["person"]: row["level"] for row in planned} == {
        "thorne": "write",
        "stone": "write",
        "finch": "write",
        "ledgerwood": "read",
    }
    (lost,) = rows_of(run("changes", "--only", "access", "--format", "csv", "--office", demo, status=1))
    assert (lost["person"], lost["folder"], lost["after"], lost["below"]) == ("thistle", "barn:/Payroll", "none", "2")
    assert (lost["why"], lost["planned"]) == ("they left payroll", "as planned")
    groups = {
        (row["group"], row["system"]): row
        for row in rows_of(run("groups", "--side", "both", "--format", "csv", *old, status=1))
    }
    assert groups["payroll", "barn"]["difference"] == "also has thistle"
    sheet = run("people", "Zoe Kestrel", "--office", demo).stdout
    assert "zadmin" in sheet and "HOME  barn:/Homes/zkestrel" in sheet
    assert "nobody is called" in run("people", "nemo", "--office", demo, status=2).stderr
    meant = rows_of(run("reach", "--side", "plan", "--format", "csv", *old))
    assert ("thistle", "barn:/Payroll") not in {(row["person"], row["folder"]) for row in meant} and len(meant) > 50
    off = rows_of(run("reach", "--side", "both", "--format", "csv", *old, status=1))
    marked = {(row["person"], row["folder"]) for row in off if row["mark"] == "≠" and row["found"] != "not there"}
    assert {row["folder"] for row in off if row["found"] == "not there"} == {"barn:/Imaging/From outside"}
    assert {("thistle", "barn:/Payroll"), ("sedge", "barn:/Records"), ("teal", "barn:/Imaging")} <= marked
    named = {row["folder"] for row in meant}
    assert not {person for person, folder in marked if folder[:4] == "barn" and folder in named} & {
        "thorne",
        "rook",
        "croft",
        "marsh",
        "kestrel",
        "root",
    }
    # Below what the plan names, where something begins to differ, and there alone.
    below = {folder for person, folder in marked if person == "croft" and folder not in named}
    assert below == {
        "barn:/Imaging/X-ray table",
        "barn:/Records/2025/From the old system",
        "barn:/Records/2026/Dogs",  # two of its files are their owner's alone
    }
    one = rows_of(
        run(
            "reach",
            "--side",
            "both",
            "croft",
            "barn:/Imaging",
            "--format",
            "csv",
            *old,
            status=1,
        )
    )
    assert {row["folder"] for row in one} - {"barn:/Imaging/From outside"} == {
        "barn:/Imaging",
        "barn:/Imaging/X-ray table",
    } and {row["person"] for row in one} == {"croft"}
    plan = rows_of(run("reach", "--side", "plan", "barn:/Imaging/X-ray table", "--format", "csv", *old))
    assert {row["folder"] for row in plan} == {"barn:/Imaging/X-ray table"} and "croft" in {
        row["person"] for row in plan
    }
    folders = rows_of(run("folders", "--side", "both", "--format", "csv", *old, status=1))
    assert [row["folder"] for row in folders if row["found"] != "yes"] == ["barn:/Imaging/From outside"]
    listed = run("folders", "barn:/Records/2026", "--office", demo).stdout
    assert "group vets (52503) rwx" in listed and "barn:/Records/2026/Insurance" in listed
    both = run("reach", "frost", "--side", "both", "--office", demo, status=1).stdout
    assert "differ in 2 of 6 places" in both and "From the old system" in both


def test_tables_fit_the_terminal_and_files_are_written_whole(demo: Path, run, tmp_path: Path) -> None:
    env = {**os.environ, "COLUMNS": "80", "PYTHONUTF8": "1"}
    done = subprocess.run([COMMAND, "reach", "rook", "--office", demo], capture_output=True, text=True, env=env)
    table = [line for line in done.stdout.splitlines()[2:] if line.startswith("barn:")]
    assert table and max(map(len, table)) <= 80 and "\x1b" not in done.stdout
    out = tmp_path / "out.csv"
    out.touch()
    (tmp_path / "link").symlink_to(out)
    run("people", "--format", "csv", "-o", tmp_path / "link", "--office", demo)
    assert (tmp_path / "link").is_symlink(), "what a link points to is written"
    os.mkfifo(tmp_path / "pipe")
    with subprocess.Popen(["cat", tmp_path / "pipe"], stdout=subprocess.PIPE, text=True) as reader:
        run("people", "--format", "csv", "-o", tmp_path / "pipe", "--office", demo)
        assert reader.communicate()[0] == out.read_text()
    assert not (tmp_path / "pipe").is_file(), "a pipe or a device is written to, never replaced"
    assert len(out.read_text().splitlines()) == 1 + 38
    run("people", "-o", tmp_path / "no" / "where", "--office", demo, status=2)
    first = subprocess.run(
        f"{COMMAND} reach --level any --format csv --office {demo} | head -1", shell=True, capture_output=True
    )
    assert first.stderr == b""


@given(st.binary(max_size=30))
def test_names_come_back_from_both_escapes(name: bytes) -> None:
    encoded = encode_bytes(name)
    assert decode_address(encoded) == name and encoded.isprintable()
    shown = show_bytes(name)
    assert shown.isprintable()
    assert shown.encode("utf-8").decode("unicode_escape", "strict") or not name
    assert Address("barn", b"/" + name).is_within(Address("barn", b"/"))


def test_cold_help_and_who_import_only_what_they_use(demo: Path) -> None:
    code = "import sys\nfrom neatledger.cli import main\nmain(sys.argv[1:])\n"
    code += "print(' '.join(sys.modules), file=sys.stderr)"

    def modules(*words: object) -> set[str]:
        done = subprocess.run(
            [sys.executable, "-c", code, *map(str, words)], capture_output=True, text=True, check=True
        )
        return set(done.stderr.split())

    assert not modules("--help") & {"neatledger.app", "sqlite3", "yaml", "numpy", "wcwidth", "jsonschema_rs"}
    assert not modules("who", "barn:/Rota", "--office", demo) & {
        "numpy",
        "ruamel",
        "multiprocessing",
        "neatledger.commands.check",
    }


def wait_until(path: Path, is_there) -> None:
    deadline = time.monotonic() + 30
    while not is_there(path):
        assert time.monotonic() < deadline
        time.sleep(0.002)


@pytest.mark.judge
def test_kill_at_any_moment_and_two_runs_at_once(tmp_path: Path, run) -> None:
    tree, office = tmp_path / "tree", tmp_path / "office"
    kernel.make_random_tree(tree, 1, 60)
    for number in range(300):
        (tree / f"folder {number}").mkdir()
        for name in range(5):
            (tree / f"folder {number}" / f"{name}.txt").touch()
    run("connect", "--office", office, f"barn={tree}")
    gather = [COMMAND, "count", "--quiet", "--office", office]
    subprocess.run(gather, check=True, capture_output=True)
    for _ in range(6):
        started = subprocess.Popen(
            gather, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL, start_new_session=True
        )
        time.sleep(random.uniform(0.05, 0.6))
        os.killpg(started.pid, signal.SIGKILL)
        started.wait()
        with sqlite3.connect(office / "ledger.db") as db:
            assert db.execute("PRAGMA integrity_check").fetchone() == ("ok",)
            whole = db.execute("SELECT count(*) FROM counts c JOIN surveys s ON s.count_id = c.id").fetchone()
            assert whole == db.execute("SELECT count(*) FROM counts").fetchone()
        run("who", "barn:/", "--office", office)
    stopped = subprocess.Popen(
        gather, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True, start_new_session=True
    )
    before = len(rows_of(run("ledger", "--format", "csv", "--office", office)))
    time.sleep(0.25)
    os.killpg(stopped.pid, signal.SIGINT)
    _, told = stopped.communicate()
    if stopped.returncode == 130:
        assert told == "neatledger: stopped; the ledger is as it was\n", told
        assert len(rows_of(run("ledger", "--format", "csv", "--office", office))) == before
    both = [subprocess.Popen(gather, stdout=subprocess.DEVNULL) for _ in range(2)]
    assert [each.wait() for each in both] == [0, 0]
    with sqlite3.connect(office / "ledger.db") as db, pytest.raises(sqlite3.IntegrityError, match="never altered"):
        db.execute("UPDATE counts SET tool = 'x'")
    (office / "ledger.db").write_bytes(b"not a ledger, but long enough to look like something" * 20)
    assert "ledger.db" in run("who", "barn:/", "--office", office, status=2).stderr


def test_a_small_survey_that_is_read_at_once_answers_as_a_large_one(demo: Path, run, monkeypatch) -> None:
    asked = (
        ["who", "barn:/Payroll"], ["reach", "--level", "any"], ["space", "barn:/", "--depth", "all", "--by", "kind"], ["links"], ["changes"],
        ["space", "--forecast", "barn"], ["changes", "thistle", "barn:/Payroll"], ["groups", "--all"], ["people", "rook"],
    )  # fmt: skip
    told = []
    for most in (store._SMALL, -1):
        monkeypatch.setattr(store, "_SMALL", most)
        whole = ("--format", "csv", "--office", demo, "--today", "2026-11-23")
        told.append([run(*words, *whole, status=ANY).stdout for words in asked])
        told[-1].append(repr(ask_anew(open_office(demo, today=date(2026, 11, 23)))))
    assert told[0] == told[1] and all(told[0])


@pytest.mark.judge
def test_what_vanishes_or_is_closed_is_not_seen(tmp_path: Path, run) -> None:
    tree, office = tmp_path / "tree", tmp_path / "office"
    for name in ("open", "closed/inside", "deep/" + "/".join(f"d{number}" for number in range(300))):
        (tree / name).mkdir(parents=True)
    (tree / "closed").chmod(0o000)
    run("connect", "--office", office, f"barn={tree}")
    # The superuser without the capabilities that pass over modes (capabilities(7)).
    lacks = "-dac_override,-dac_read_search"
    words = ["setpriv", "--bounding-set", lacks, "--inh-caps", lacks, COMMAND, "count", "--office", office]
    done = subprocess.run([*words, "--format", "json"], capture_output=True, text=True)
    assert done.returncode == 0, done.stderr
    found = json.loads(done.stdout)
    assert found["rows"][0]["not_seen"] == 1 and found["rows"][0]["folders"] == 304
    assert any("barn:/closed" in note and "permission denied" in note for note in found["notes"])
    row = rows_of(run("reach", "--all", "root", "barn:/closed", "--format", "csv", "--office", office))[0]
    assert row["files"] == "" and row["enter"] == "0"
    finding = rows_of(run("check", "--only", "not-seen", "--format", "csv", "--office", office, status=1))
    assert finding[0]["place"] == "barn:/closed"


@pytest.mark.judge
def test_every_change_is_told_with_its_cause(tmp_path: Path, run) -> None:
    """An entry, a member, an account, a move, a folder and a limit; each is told where it is, and once."""
    tree, office = tmp_path / "tree", tmp_path / "office"
    for name in ("a/in", "b", "c"):
        (tree / name).mkdir(parents=True)
    for path in (tree, *tree.rglob("*")):
        path.chmod(0o755)
    (tree / "c").chmod(0o700)
    (tree / "a" / "in").chmod(0o757)
    for path in (tree / "a", tree / "b"):
        path.chmod(0o750)
        os.chown(path, 0, 61001)
    office.mkdir()
    (office / "office.yaml").write_text(
        f"office: X\nsystems:\n  barn: {{source: tree, path: {tree}, accounts: {{passwd: passwd, group: group}}}}\n"
    )
    people = "ada:x:60001:60001::/:/bin/sh\nbo:x:60002:60002::/:/bin/sh\n"
    (office / "passwd").write_text(people)
    (office / "group").write_text("g:x:61001:ada\n")
    run("count", "--today", "2026-01-01", "--office", office)
    (office / "passwd").write_text(people + "cy:x:60003:60003::/:/bin/sh\n")
    (office / "group").write_text("g:x:61001:bo\n")
    (tree / "c").chmod(0o755)
    (tree / "a" / "in").rename(tree / "b" / "moved")
    (tree / "new").mkdir(mode=0o755)
    run("count", "--today", "2026-01-02", "--office", office)
    told = rows_of(run("changes", "--format", "csv", "--office", office, status=1))
    access = {(row["person"], row["folder"]): row for row in told if row["what"] == "access"}
    assert access["ada", "barn:/a"]["why"] == "they left g" and access["bo", "barn:/a"]["why"] == "they came into g"
    assert (
        access["ada", "barn:/c"]["why"].startswith("the list of /c: gone: ")
        and access["ada", "barn:/c"]["after"] == "read"
    )
    assert access["ada", "barn:/new"]["why"] == "the folder came" and "account" in access["cy", "barn:/"]["why"]
    assert "it was moved here from barn:/a/in" in access["bo", "barn:/b/moved"]["why"]
    others = {
        (row["what"], row["folder"], row["person"]): (row["before"], row["after"])
        for row in told
        if row["what"] != "access"
    }
    assert others["account", "barn:cy", "cy"] == ("none", "open")
    assert others["group", "barn:g", "ada"] == ("in it", "not in it") and others["group", "barn:g", "bo"] == (
        "not in it",
        "in it",
    )
