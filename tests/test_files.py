"""Files that are written: whole or not at all, theirs who had them, and through nobody else's link."""

from __future__ import annotations

import csv
import io
import json
import os
import random
import shutil
import sqlite3
import subprocess
import sys
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import pytest
from defusedxml.ElementTree import fromstring
from hypothesis import given
from hypothesis import strategies as st

from conftest import ANY, COMMAND, status_as_nobody
from neatledger import files
from neatledger.cli import FORMATS
from neatledger.errors import NeatError
from neatledger.faces.machine import WRITERS
from neatledger.files import open_replacement, write_file
from neatledger.reports.report import Column, Report

AS_ROOT = pytest.mark.skipif(not hasattr(os, "geteuid") or os.geteuid() != 0, reason="gives files to others")


def standing(path: Path) -> tuple[int, int, int, dict[str, bytes]]:
    info = path.lstat()
    return info.st_uid, info.st_gid, info.st_mode, {name: os.getxattr(path, name) for name in os.listxattr(path)}


@AS_ROOT
@pytest.mark.judge
@pytest.mark.parametrize("mode", [0o600, 0o640, 0o664])
@pytest.mark.parametrize("entries", [[], ["-m", "u:daemon:rw"], ["-m", "u:games:r,g:mail:rwx,m::rw"]])
def test_a_file_that_is_replaced_stays_whose_it_was(tmp_path: Path, mode: int, entries: list[str]) -> None:
    subprocess.run(["setfacl", "-d", "-m", "u:news:rwx", tmp_path], check=True)
    kept, link = tmp_path / "kept", tmp_path / "link"
    kept.write_text("before")
    subprocess.run(["setfacl", "-b", kept], check=True)
    kept.chmod(mode)
    os.chown(kept, 5, 60)
    if entries:
        subprocess.run(["setfacl", *entries, kept], check=True)
    os.setxattr(kept, "user.note", b"x")
    link.symlink_to("kept")
    before = standing(kept)
    write_file(link, b"after")
    assert kept.read_text() == "after" and standing(kept) == before and os.readlink(link) == "kept"
    with pytest.raises(ZeroDivisionError), open_replacement(kept) as out:
        out.write("half")
        raise ZeroDivisionError
    assert kept.read_text() == "after" and sorted(one.name for one in tmp_path.iterdir()) == ["kept", "link"]


@AS_ROOT
def test_who_may_only_write_a_file_leaves_it_to_its_owner(tmp_path: Path) -> None:
    shared = tmp_path / "shared"
    shared.write_text("a longer text than after it")
    shared.chmod(0o666)
    os.chown(shared, 5, 60)
    tmp_path.chmod(0o777)
    assert status_as_nobody(tmp_path, lambda: write_file(shared, b"short")) == 0
    assert shared.read_text() == "short" and (shared.stat().st_uid, shared.stat().st_gid) == (5, 60)


@AS_ROOT
@pytest.mark.parametrize(("sticky", "owner", "follows"), [
    (0o1777, 5, False), (0o1777, 0, True), (0o777, 5, False), (0o777, 0, True), (0o1755, 5, False),
])  # fmt: skip
def test_no_link_is_followed_that_somebody_planted(tmp_path: Path, sticky: int, owner: int, follows: bool) -> None:
    (tmp_path / "precious").write_text("before")
    place = tmp_path / "shared"
    place.mkdir()
    place.chmod(sticky)
    (place / "out").symlink_to(tmp_path / "precious")
    os.lchown(place / "out", owner, owner)
    if follows:
        write_file(place / "out", b"after")
    else:
        with pytest.raises(NeatError, match="somebody else's link"):
            write_file(place / "out", b"after")
    assert (tmp_path / "precious").read_text() == ("after" if follows else "before")
    # To what is theirs anybody's link leads, where not everybody may put one.
    theirs = tmp_path / "theirs"
    theirs.mkdir()
    os.chown(theirs, 5, 5)
    (theirs / "link").symlink_to("real")
    os.lchown(theirs / "link", 5, 5)
    write_file(theirs / "link", b"after")
    assert (theirs / "real").read_text() == "after" and (theirs / "link").is_symlink()


@AS_ROOT
@pytest.mark.parametrize(("sticky", "owner", "is_written"), [
    (0o1777, 5, False), (0o1770, 5, False), (0o1777, 0, True), (0o777, 5, True), (0o1755, 5, True),
])  # fmt: skip
@pytest.mark.parametrize("what", ["file", "pipe"])
def test_nothing_of_others_is_written_in_a_folder_of_all(
    tmp_path: Path, sticky: int, owner: int, is_written: bool, what: str
) -> None:
    """As the kernel has it for a file that is there (fs.protected_regular and fs.protected_fifos at 2, proc(5))."""
    place = tmp_path / "shared"
    place.mkdir()
    place.chmod(sticky)
    target = place / "out"
    if what == "pipe":
        os.mkfifo(target)
    else:
        target.write_bytes(b"before")
    os.chown(target, owner, owner)
    reading = os.open(target, os.O_RDONLY | os.O_NONBLOCK)
    for asked in (lambda: files.check_target(target), lambda: write_file(target, b"after")):
        if is_written:
            asked()
        else:
            with pytest.raises(NeatError, match="somebody else's, in a folder that others may write to"):
                asked()
    if what == "file":
        assert target.read_bytes() == (b"after" if is_written else b"before") and target.stat().st_uid == owner
    else:
        assert os.read(reading, 9) == (b"after" if is_written else b"")
    os.close(reading)


def test_a_ledger_that_leads_nowhere_makes_nothing(demo: Path, tmp_path: Path, run) -> None:
    office, place = tmp_path / "office", tmp_path / "elsewhere"
    shutil.copytree(demo, office, symlinks=True)
    (office / "ledger.db").unlink()
    (office / "ledger.db").symlink_to(place)
    for words in (["count"], ["people"], ["ledger", "--verify"]):
        told = run(*words, "--office", office, status=2).stderr
        assert f"leads to a file that is not there: {place}" in told and told.count("\n") == 1
    assert not place.exists() and not list(office.glob("*.new"))


# Another user of the machine, in a folder of their own: whatever is made or found there is exchanged for a link.
_EXCHANGING = """
import os, sys
folder, precious = sys.argv[1:]
os.setgid(12345); os.setuid(12345)
os.chdir(folder)
turn = 0
print("ready", flush=True)
while True:
    turn += 1
    for name in [*os.listdir("."), "out.csv"]:
        try:
            if name.startswith("l"):
                continue
            link = f"l{turn % 7}"
            if os.path.lexists(link):
                os.unlink(link)
            if turn % 3:
                os.symlink(precious, link)
            else:
                with open(link, "w") as out:
                    out.write("theirs")
                os.chmod(link, 0o666)
            os.rename(link, name)
        except OSError:
            pass
"""


@AS_ROOT
@pytest.mark.judge
def test_whoever_exchanges_what_is_written_gets_nothing_of_roots(tmp_path: Path) -> None:
    kept = tmp_path / "kept"
    kept.mkdir(0o755)
    precious, theirs = kept / "precious", tmp_path / "theirs"
    precious.write_text("before")
    precious.chmod(0o600)
    theirs.mkdir()
    os.chown(theirs, 12345, 12345)
    for folder in (tmp_path, *tmp_path.parents[:2]):
        folder.chmod(0o755)
    words = [sys.executable, "-c", _EXCHANGING, theirs, precious]
    written = refused = 0
    with subprocess.Popen(words, stdout=subprocess.PIPE) as process:
        assert process.stdout.readline() == b"ready\n"
        try:
            for number in range(600):
                try:
                    write_file(theirs / "out.csv", b"secret of root" * (number % 3))
                    written += 1
                except NeatError:
                    refused += 1
                info = precious.lstat()
                assert (precious.read_text(), info.st_uid, info.st_mode & 0o7777) == ("before", 0, 0o600)
        finally:
            process.kill()
    assert refused, "nobody was fast enough"
    for found in theirs.iterdir():
        # What root made and could not put in place stays root's alone.
        info = found.lstat()
        assert info.st_uid == 12345 or found.is_symlink() or not info.st_mode & 0o077 or found.name == "out.csv"


def test_a_lock_that_does_not_end_is_one_line(tmp_path: Path, monkeypatch) -> None:
    monkeypatch.setattr(files, "_PATIENCE_SECONDS", 0.1)
    with (
        files.locked(tmp_path),
        pytest.raises(NeatError, match="another command is changing the plan"),
        files.locked(tmp_path),
    ):
        raise AssertionError


@pytest.fixture
def office(demo: Path, tmp_path: Path) -> Path:
    shutil.copytree(demo, tmp_path / "office", symlinks=True)
    return tmp_path / "office"


def test_edits_at_the_same_time_are_all_kept(office: Path, start, run) -> None:
    rows = csv.DictReader(
        io.StringIO(run("check", "--only", "no-end", "--format", "csv", "--office", office, status=1).stdout)
    )
    places = sorted({row["place"] for row in rows})[:5]

    def accept(place: str) -> None:
        start("check", "--only", "no-end", place, "--accept", "at once", "--quiet", "--office", office, "--yes")

    with ThreadPoolExecutor(5) as pool:
        list(pool.map(accept, places))
    text = (office / "office.yaml").read_text()
    assert len(places) > 4 and all(f"place: {place}\n    reason: at once" in text for place in places)


@pytest.mark.parametrize(("words", "told"), [
    ("check --only no-end meadow:/nothing --accept x --yes", "no finding of no-end at meadow:/nothing"),
    ("expiring --only nothing", "nothing that ends is called 'nothing'"),
    ("links --made-by nobody", "nobody is called 'nobody'"),
    ("links --given-to nobody", "nobody is called 'nobody'"),
    ("check --only nothing", "there is no check 'nothing'"),
    ("reach barn:/Nope", "no folder of this name"),
    ("who barn:/Rota -o OUT.xlsx", "who does not write xlsx"),
    ("who barn:/Rota -o OUT.html", "who does not write html"),
    ("who barn:/Rota -o OUT.csv --format json", "leave one of them out"),
    ("report space -o OUT.csv", "no report is written as .csv"),
])  # fmt: skip
def test_what_is_not_there_is_refused(demo: Path, run, tmp_path: Path, words: str, told: str) -> None:
    said = run(*words.replace("OUT", f"{tmp_path}/out").split(), "--office", demo, status=2).stderr
    assert told in said and said.count("\n") == 1 and not list(tmp_path.glob("out*"))


def test_a_file_is_what_its_ending_says(demo: Path, run, tmp_path: Path) -> None:
    for name in ("a.csv", "a.json", "a.CSV", "a.txt"):
        run("who", "barn:/Rota", "-o", tmp_path / name, "--office", demo)
        form = {"a.json": "json", "a.txt": "table"}.get(name, "csv")
        assert (tmp_path / name).read_text() == run("who", "barn:/Rota", "--format", form, "--office", demo).stdout


@pytest.mark.parametrize("words", ["who barn:/Payroll", "reach --format csv", "--help"])
def test_a_full_disk_and_a_closed_output_are_one_line(demo: Path, words: str) -> None:
    words = words if words == "--help" else f"{words} --office {demo}"
    for more, told in ((">/dev/full", "No space left"), (">&-", "its output is closed")):
        if words != "--help" or more != ">&-":
            done = subprocess.run(f"{COMMAND} {words} {more}", shell=True, capture_output=True, text=True)
            assert done.returncode == 2 and told in done.stderr and done.stderr.count("\n") == 1, done.stderr


@pytest.mark.parametrize("columns", ["abc", "-5", "0", "1", "7", "99999999999", ""])
def test_whatever_width_is_told_is_borne(demo: Path, run, monkeypatch, columns: str) -> None:
    monkeypatch.setenv("COLUMNS", columns)
    told = run("who", "barn:/Payroll", "--office", demo).stdout
    assert "finch" in told or columns in ("1", "7")


ALIASES = "x0: &x0 [a, a, a, a, a, a, a, a, a]\n" + "".join(
    f"x{n}: &x{n} [{', '.join([f'*x{n - 1}'] * 9)}]\n" for n in range(1, 10)
)
PLANS = [
    (ALIASES, "more than 1,000,000 values"),
    ("x: " + "[" * 20_000, "nesting depth"),
    (f"settings: {{service-uid-below: {'9' * 5000}}}", "expected a whole number"),
    ("people: {ada: {end: 99999-01-01}}", "expected a date"),
    ("people: {ada: {end: 2026-02-31}}", "a day of the calendar"),
    ('people: {"a\\ud800b": {}}', "office.yaml"),
]


@pytest.mark.parametrize(("more", "told"), PLANS, ids=range(len(PLANS)))
def test_a_plan_beyond_reason_is_one_line(tmp_path: Path, run, more: str, told: str) -> None:
    (tmp_path / "office.yaml").write_text(f"office: X\nsystems: {{b: {{source: tree, path: /tmp}}}}\n{more}\n")
    said = run("people", "--office", tmp_path, status=2).stderr
    assert told in said and said.count("\n") == 1 and len(said) < 500


@pytest.mark.parametrize("words", [
    "who barn:/Rota --today 9999-12-31", "check --as-of 0001-01-01", "expiring --within 99999999999", "expiring --within -5",
    "links --within 1e9", "limits --grace-days 400000", "changes --since 9999-01-01", "count --today 2998-01-01",
])  # fmt: skip
def test_days_beyond_reason_are_refused(demo: Path, run, words: str) -> None:
    said = run(*words.split(), "--office", demo, status=2).stderr
    assert said.count("\n") == 1 and "program's own" not in said


def test_a_damaged_ledger_is_one_line(office: Path, run) -> None:
    rng, whole = random.Random(5), (office / "ledger.db").read_bytes()
    faults, sound = 0, {}
    for number in range(20):
        damaged = bytearray(whole[: rng.randrange(len(whole))] if number % 3 == 0 else whole)
        for _ in range(rng.choice([1, 20, 2000]) if number % 3 else 0):
            damaged[rng.randrange(len(damaged))] ^= 1 << rng.randrange(8)
        (office / "ledger.db").write_bytes(damaged)
        words = rng.choice(
            ["who barn:/Payroll", "reach --format csv", "check", "space", "links", "counts", "changes"]
        )
        done = run(*words.split(), "--office", office, status=ANY)
        if words not in sound:
            (office / "ledger.db").write_bytes(whole)
            sound[words] = run(*words.split(), "--office", office, status=ANY).stdout
        # It is as it was, or it is said: never another answer.
        assert done.returncode == 2 or done.stdout == sound[words], words
        assert done.returncode in (0, 1) or (done.stderr.count("\n") == 1 and "program's own" not in done.stderr), (
            done.stderr
        )
        faults += done.returncode == 2
    assert faults > 4


def test_a_mistaken_count_of_the_future_is_told_and_removed(office: Path, run) -> None:
    def newest() -> list[str]:
        return run("ledger", "--format", "csv", "--office", office).stdout.splitlines()[1].split(",")

    before = newest()
    assert "in the future" in run("count", "--today", "2990-01-01", "--office", office, status=2).stderr
    run("count", "--today", "2990-01-01", "--allow", "future", "--office", office)
    number, taken = newest()[:2]
    assert taken.startswith("2990-01-01")
    told = run("count", "--today", "2026-11-23", "--office", office).stderr
    assert f"count {number} is dated later" in told and f"ledger --remove {number}" in told
    assert "was not removed" in run("ledger", "--remove", number, "--office", office, status=2).stderr
    assert "no count has the number" in run("ledger", "--remove", "999", "--office", office, status=2).stderr
    for one in (number, str(int(number) + 1)):
        assert f"Removed count {one}" in run("ledger", "--remove", one, "--yes", "--office", office).stderr
    assert newest() == before
    with sqlite3.connect(office / "ledger.db") as ledger:
        assert ledger.execute("PRAGMA foreign_key_check").fetchall() == []
        assert ledger.execute(
            "SELECT count(*) FROM packed WHERE survey_id NOT IN (SELECT id FROM surveys)"
        ).fetchone() == (0,)


@pytest.mark.parametrize(("name", "shown"), [
    ("=1+1", "'=1+1"), ("+x", "'+x"), ("@sum", "'@sum"), ("-cmd", "'-cmd"), ("\t=x", "'\t=x"), ("-", "-"), ("-5", "-5"), ("a=b", "a=b"),
])  # fmt: skip
def test_no_cell_is_a_formula_to_a_spreadsheet(name: str, shown: str) -> None:
    report = Report(
        "x", "", (Column("name", "NAME"), Column("words", "WORDS")), [{"name": name, "words": (name, "b")}]
    )
    ((_, _), (one, words)) = csv.reader(io.StringIO(WRITERS["csv"].whole(report)))
    assert one == shown and words == (f"{name} b" if name in ("a=b", "-5") else f"'{name} b")
    assert json.loads(WRITERS["json"].whole(report))["rows"] == [{"name": name, "words": [name, "b"]}]


@given(st.text(), st.text(min_size=1), st.one_of(st.none(), st.booleans(), st.integers()))
def test_xml_says_what_csv_says_whatever_a_cell_holds(name: str, word: str, value: object) -> None:
    row = {"name": name, "words": (word, "b"), "value": value}
    columns = (Column("name", "NAME"), Column("words", "WORDS"), Column("value", "VALUE"))
    report = Report("x<", name, columns, [row, row], [f"note {name}"])
    root = fromstring(WRITERS["xml"].whole(report).encode())
    assert root.get("name") == "x<" and [one.tag for one in root] == ["headline", "row", "row", "note"]
    cells = list(root[1])
    assert [one.tag for one in cells] == ["name", "words", "words", "value"]
    if name.isprintable():
        assert (cells[0].text or "") == name and (root[0].text or "") == name
    wanted = None if value is None else str(value).lower()
    assert cells[3].text == wanted and (cells[3].get("unknown") == "true") == (value is None)
    keys = [column.key for column in columns]
    pieces = WRITERS["xml"].piece(keys, list(row.values()))
    assert (
        len(
            fromstring(
                "".join(WRITERS["xml"].of_pieces("x", keys, [pieces, f"{pieces}</row>\n<row>{pieces}"])).encode()
            )
        )
        == 3
    )


@pytest.mark.parametrize("form", FORMATS)
def test_the_ending_of_a_file_says_the_format_as_the_option_does(demo: Path, run, tmp_path: Path, form: str) -> None:
    run("who", "barn:/Rota", "-o", tmp_path / f"by.{form}", "--office", demo)
    run("who", "barn:/Rota", "-f", form, "-o", tmp_path / "said", "--office", demo)
    assert (tmp_path / f"by.{form}").read_bytes() == (tmp_path / "said").read_bytes() != b""
