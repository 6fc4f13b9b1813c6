"""The chain of the ledger: whatever is altered in the file, taken out or put in is found; and by which link."""

from __future__ import annotations

import json
import random
import re
import shutil
import sqlite3
import zlib
from datetime import UTC, date, datetime
from pathlib import Path

import pytest

from conftest import DROP_TRAIL
from neatledger.core.reviews.pack import Pack
from neatledger.core.tree.address import Address
from neatledger.ledger.journal import Event as Happened
from neatledger.ledger.notices import Event
from neatledger.ledger.opening import open_ledger
from neatledger.ledger.schema import CHAINED

NOW = datetime(2026, 11, 20, 8, tzinfo=UTC)
OF_COUNT = ("surveys", "accounts", "account_groups", "not_seen", "packed", "shared", "seals")
LOGS = ("journal", "reviews", "notices")
TRAIL = ("trail_blocks", "trail_deeds", "trail_folders", "trail_words", "trail_gaps")


@pytest.fixture(scope="module")
def office(demo: Path) -> Path:
    """The sample office with something of every kind in its ledger, and a count that was removed."""
    ledger = open_ledger(demo / "ledger.db")
    ledger.remove_count(ledger.counts()[0].id)
    for number in range(4):
        run = ledger.journal.begin([], NOW)
        ledger.journal.note(run, Happened.STOPPED, [(None, {"why": "full"}), (None, {"why": "gone"})], NOW)
        pack = Pack(f"P{number}", "ada", 1, date(2026, 11, 20), (Address("barn", b"/Notices"),), ())
        ledger.reviews.add_packs([pack], NOW)
        ledger.notices.add(Event.SENT, [f"link|{number}"], NOW, {"person": "ada"})
    ledger.close()
    return demo


def _altered(db: sqlite3.Connection, draw: random.Random) -> None:
    """Do to one row what somebody with an editor for such files might."""
    for (name,) in db.execute("SELECT name FROM sqlite_master WHERE type = 'trigger'").fetchall():
        db.execute(f"DROP TRIGGER {name}")
    filled = [name for name in ("counts", *OF_COUNT, *LOGS, *TRAIL, "findings", "chain") if _number(db, name)]
    table = draw.choice(filled)
    columns = [row[1] for row in db.execute(f"PRAGMA table_info({table})")]
    place = draw.randrange(_number(db, table))
    # What was found may go: it is worked out anew.
    act = draw.choice(["change", *([] if table == "findings" else ["remove"]), "double", "swap"])
    old = db.execute(f"SELECT {', '.join(columns)} FROM {table} LIMIT 1 OFFSET {place}").fetchone()
    where = " AND ".join(f"{name} IS ?" for name in columns)
    if act == "remove" and not (table == "chain" and place == _number(db, table) - 1):
        db.execute(f"DELETE FROM {table} WHERE {where}", old)
    elif act == "double" and columns[0] == "id" and table != "surveys":
        values = (_last(db, table) + draw.choice([1, 5]), *old[1:])
        db.execute(f"INSERT INTO {table} VALUES ({', '.join('?' * len(values))})", values)
    elif act == "swap" and table in LOGS:
        one, other = draw.sample(range(1, _number(db, table) + 1), 2)
        for was, now in ((one, 10**6), (other, one), (10**6, other)):
            db.execute(f"UPDATE {table} SET id = ? WHERE id = ?", (now, was))
    else:
        at = draw.randrange(len(columns))
        value = old[at]
        new: object = (
            value + draw.choice([1, -1, 10**6]) if isinstance(value, int)
            else bytes([value[0] ^ 1]) + value[1:] if isinstance(value, bytes) and value
            else f"{value}x" if isinstance(value, str)
            else draw.choice([b"x", 7])
        )  # fmt: skip
        db.execute(f"UPDATE {table} SET {columns[at]} = ? WHERE {where}", (new, *old))


def _number(db: sqlite3.Connection, table: str) -> int:
    return int(db.execute(f"SELECT count(*) FROM {table}").fetchone()[0])


def _last(db: sqlite3.Connection, table: str) -> int:
    return int(db.execute(f"SELECT max(id) FROM {table}").fetchone()[0])


@pytest.mark.seeds(15)
def test_whatever_is_altered_is_found(office: Path, tmp_path: Path, seed: int) -> None:
    path = Path(shutil.copy(office / "ledger.db", tmp_path))
    before = open_ledger(path).chain.prove()
    removed = [one.link.subject for one in before.links if one.state.value == "removed"]
    assert before.holds and removed.count("count") == 1
    assert set(removed) <= {"count", "trail_blocks", "findings"}
    with sqlite3.connect(path) as db:
        try:
            _altered(db, random.Random(seed))
        except sqlite3.IntegrityError:
            # The row is there already, or the table lets no such value in: nothing was altered.
            db.rollback()
            return
    assert not open_ledger(path).chain.prove().holds


def test_the_first_broken_link_is_named_and_a_tail_that_was_cut_off(office: Path, tmp_path: Path, run) -> None:
    shutil.copytree(office, tmp_path, dirs_exist_ok=True)
    # What is found is kept and sealed, the first time that it is looked for.
    said = run("report", "office", "-o", tmp_path / "x.html", "--office", tmp_path).stderr
    told = run("ledger", "--verify", "--office", tmp_path).stdout
    assert "everything is as it was written" in told and "removed" in told
    head = re.search(r"link (\d+):\s+([0-9a-f]{64})$", told, re.MULTILINE)
    number, seal = head.groups()
    assert f"that of link {number}" in run("ledger", "--verify", "--head", seal[:16], "--office", tmp_path).stdout
    assert "no head" in run("ledger", "--verify", "--head", seal[:15], "--office", tmp_path, status=2).stderr
    assert "belongs to --verify" in run("ledger", "--head", seal, "--office", tmp_path, status=2).stderr
    assert seal in " ".join(said.split()) + (tmp_path / "x.html").read_text("utf-8")
    assert "Nothing was taken out or put in place of anything since" in " ".join(
        run("ledger", "--verify", "--head", seal, "--office", tmp_path).stdout.split()
    )

    with sqlite3.connect(tmp_path / "ledger.db") as db:
        for name in ("journal_never_altered", "chain_never_shortened", "notices_never_shortened"):
            db.execute(f"DROP TRIGGER {name}")
        # Without the last notice and all after it the chain still holds: a head that lies elsewhere tells.
        (link,) = db.execute("SELECT max(id) FROM chain WHERE subject = 'notices'").fetchone()
        db.execute("DELETE FROM notices WHERE id = (SELECT max(id) FROM notices)")
        db.execute("DELETE FROM chain WHERE id >= ?", (link,))
        db.execute("INSERT INTO counts VALUES (99, '2026-11-21T08:00:00+00:00', 'x', '', '')")
    cut = run("ledger", "--verify", "--head", seal, "--office", tmp_path, status=1).stdout
    assert "cut off since" in " ".join(cut.split()) and "Count 99 is in no link" in cut
    with sqlite3.connect(tmp_path / "ledger.db") as db:
        db.execute("UPDATE journal SET facts = replace(facts, 'full', 'tidy') WHERE id = 2")
        (link,) = db.execute("SELECT id FROM chain WHERE subject = 'journal' AND first <= 2 AND last >= 2").fetchone()
    told = " ".join(run("ledger", "--verify", "--office", tmp_path, status=1).stdout.split())
    assert told.startswith(f"Link {link} of ") and "carried-out steps, entries 2 to 3: steps altered" in told


def test_a_ledger_from_before_the_chain_is_sealed_when_it_is_opened(office: Path, tmp_path: Path) -> None:
    path = Path(shutil.copy(office / "ledger.db", tmp_path))
    with sqlite3.connect(path) as db:
        for statement in ("DROP TABLE chain", *DROP_TRAIL, f"PRAGMA user_version = {CHAINED - 1}"):
            db.execute(statement)
    proof = open_ledger(path).chain.prove()
    assert proof.holds and {one.link.subject for one in proof.links} == {"count", "findings", *LOGS}


def test_a_sealed_count_takes_no_row(office: Path, tmp_path: Path) -> None:
    """Whoever may add to the tables could else put one into an old count, and stop every question about it."""
    path = Path(shutil.copy(office / "ledger.db", tmp_path))
    with sqlite3.connect(path) as db:
        number, survey = db.execute("SELECT count_id, id FROM surveys ORDER BY id LIMIT 1").fetchone()
        for table in OF_COUNT:
            columns = [row[1] for row in db.execute(f"PRAGMA table_info({table})")]
            values: list[object] = [
                "x" if kind == "TEXT" else 10**7 for _, _, kind, *_ in db.execute(f"PRAGMA table_info({table})")
            ]
            values[columns.index("count_id" if table == "surveys" else "survey_id")] = (
                number if table == "surveys" else survey
            )
            with pytest.raises(sqlite3.IntegrityError, match="sealed takes no row"):
                db.execute(f"INSERT INTO {table} VALUES ({', '.join('?' * len(values))})", values)
    assert open_ledger(path).chain.prove().holds


@pytest.mark.parametrize("act", ["altered", "put in"])
def test_findings_that_somebody_else_wrote_are_worked_out_anew(office: Path, tmp_path: Path, run, act: str) -> None:
    shutil.copytree(office, tmp_path, dirs_exist_ok=True)
    asked = ["check", "--all", "-f", "json", "--office", tmp_path, "--today", "2026-11-20"]

    def told() -> set[tuple[str, ...]]:
        # Since when it stands, and what follows from that, is known from older looks alone.
        rows = json.loads(run(*asked, status=None).stdout)["rows"]
        return {tuple(row[key] for key in ("severity", "check", "place", "evidence")) for row in rows}

    true = told()
    assert true == told() and len(true) > 5
    none = zlib.compress(b'{"findings": [], "filling": []}')
    with sqlite3.connect(tmp_path / "ledger.db") as db:
        db.execute("DROP TRIGGER findings_never_altered")
        if act == "altered":
            db.execute("UPDATE findings SET data = ?, subjects = x'', standing = '{}'", (none,))
        else:
            rows = db.execute("SELECT count_id, basis, day FROM findings").fetchall()
            db.execute("DELETE FROM findings")
            insert = (
                "INSERT INTO findings (count_id, basis, day, standing, subjects, data) VALUES (?, ?, ?, '{}', x'', ?)"
            )
            db.executemany(insert, [(*row, none) for row in rows])
    assert "findings" in run("ledger", "--verify", "--office", tmp_path, status=1).stdout
    assert told() == true


def test_an_older_head_tells_what_was_taken_out_and_put_in_since(office: Path, tmp_path: Path, run) -> None:
    shutil.copytree(office, tmp_path, dirs_exist_ok=True)
    first = json.loads(run("ledger", "--verify", "-f", "json", "--office", tmp_path).stdout)["rows"][0]["seal"]
    run("ledger", "--remove", "2", "--yes", "--office", tmp_path)
    told = " ".join(run("ledger", "--verify", "--head", first, "--office", tmp_path).stdout.split())
    assert "all up to it that still stands is as it was then" in told
    assert re.search(r"Taken out since: .*counts 1, 2 \(\d{4}-\d\d-\d\d, links \d+, \d+\)", told)
    assert "Put in since:" in told and "Sums of each day stand in the place of those records" in told
