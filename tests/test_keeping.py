"""Records over time: added up by day, dropped, one person's removed, folders followed; and the chain says so."""

from __future__ import annotations

import random
import shutil
import sqlite3
from collections import Counter
from datetime import UTC, datetime, timedelta
from pathlib import Path

import pytest

from conftest import DROP_TRAIL
from neatledger.core.trail.records import Did, Position, Record
from neatledger.core.tree.address import Address
from neatledger.errors import LedgerError
from neatledger.ledger.opening import open_ledger
from neatledger.ledger.schema import MIGRATIONS
from neatledger.ledger.store import Ledger
from neatledger.ledger.trail.keeping import REMOVED

START = datetime(2026, 1, 1, tzinfo=UTC)
NOW = START + timedelta(days=100)
PEOPLE = ["ada", "Bo", "cy\u00fc"]
DIDS = [Did.OPEN, Did.CHANGE, Did.DELETE, Did.SIGN_IN, Did.RENAME]


def records(rng: random.Random, number: int, days: int = 100) -> list[Record]:
    found = []
    for _ in range(number):
        who, did = rng.choice(PEOPLE), rng.choice(DIDS)
        path = (
            b""
            if did is Did.SIGN_IN
            else f"/d{rng.randrange(6)}/{rng.choice(['', 'x/'])}f{rng.randrange(9)}".encode()
        )
        to = path + b"-new" if did is Did.RENAME else b""
        address = {"ada": "10.9.9.1", "Bo": rng.choice(["10.9.9.2", "10.9.9.3"]), "cy\u00fc": "10.9.9.3"}[who]
        moment = START + timedelta(seconds=rng.randrange(days * 86400))
        found.append(
            Record(
                moment,
                who,
                did,
                path,
                to,
                rng.random() < 0.9,
                False,
                address,
                f"{who}s phone",
                "why" if rng.random() < 0.1 else "",
            )
        )
    return found


def ledger_with(path: Path, some: list[Record], at_once: int = 37) -> Ledger:
    ledger = open_ledger(path, create=True)
    before = None
    for start in range(0, len(some), at_once):
        position = Position(b"x", 1, start, start)
        ledger.trail.add("loft", "a.log", some[start : start + at_once], position, before, NOW)
        before = position
    return ledger


def told(ledger: Ledger, **words) -> list[Record]:
    return [record for _, record in ledger.trail.select(**words).records()]


def whole(one: Record) -> Record:
    return one._replace(moment=one.moment.replace(microsecond=0))


@pytest.mark.parametrize("seed", range(4))
def test_what_is_kept_comes_back_and_every_question_is_a_slow_search(tmp_path: Path, seed: int) -> None:
    rng = random.Random(seed)
    some = records(rng, 400)
    ledger = ledger_with(tmp_path / "l.db", some)
    assert Counter(told(ledger)) == Counter(map(whole, some))
    moments = [one.moment for one in told(ledger)]
    assert moments == sorted(moments)
    for _ in range(12):
        who, did, done = rng.choice([None, "ADA", "bo"]), rng.choice([None, *DIDS]), rng.choice([None, True, False])
        place = rng.choice([None, b"/d1", b"/d1/x", b"/d1/f2", b"/"])
        since, until = sorted(START + timedelta(days=rng.randrange(100)) for _ in range(2))
        words = {
            "logins": None if who is None else [("loft", who)], "dids": None if did is None else [did], "is_done": done,
            "below": None if place is None else {Address("loft", place): None}, "since": since, "until": until,
        }  # fmt: skip
        expected = [
            whole(one) for one in some
            if since <= one.moment < until and (who is None or one.who.lower() == who.lower()) and did in (None, one.did)
            and done in (None, one.is_done) and (place is None or any(_within(path, place) for path in (one.path, one.to)))
        ]  # fmt: skip
        found = ledger.trail.select(**words)
        assert Counter(record for _, record in found.records()) == Counter(expected) and found.number == len(expected)
        newest = [record for _, record in found.records(5)]
        assert len(newest) >= min(5, len(expected)) and newest == told(ledger, **words)[-len(newest) :][: len(newest)]
        last: dict[str, int] = {}
        for one in expected:
            last[one.who] = max(int(one.moment.timestamp()), last.get(one.who, 0))
        assert found.last_by_login() == last


def _within(path: bytes, place: bytes) -> bool:
    return bool(path) and (place == b"/" or path == place or path.startswith(place + b"/"))


@pytest.mark.parametrize("seed", range(3))
def test_sums_take_the_place_of_old_records_and_the_last_use_stays(tmp_path: Path, seed: int) -> None:
    rng = random.Random(seed)
    some = records(rng, 600)
    ledger = ledger_with(tmp_path / "l.db", sorted(some), at_once=60)
    days = dict.fromkeys(Did, 30) | {Did.OPEN: 10}
    before = ledger.trail.table("loft")
    done = ledger.trail.thin("loft", NOW, days, 1000)
    assert done.added_up > 300 and done.sums and not done.dropped
    now = told(ledger)
    assert sum(one.number for one in now) == len(some)
    for one in now:
        assert (one.number == 1 and one.address) or not (one.address or one.device or one.detail or one.to)
    # By day, person, deed and folder there is as much as there was, and the last moment is the same.
    assert _by_day(map(whole, some)) == _by_day(now)
    after = ledger.trail.table("loft")
    assert int(after.numbers.sum()) == int(before.numbers.sum()) and len(after) < len(before)
    # Nothing that was kept long enough is touched, and a second time there is nothing to do.
    recent = [whole(one) for one in some if one.moment >= NOW - timedelta(days=10)]
    assert Counter(one for one in now if one.moment >= NOW - timedelta(days=10)) == Counter(recent)
    assert ledger.trail.thin("loft", NOW, days, 1000).added_up == 0
    later = ledger.trail.thin("loft", NOW + timedelta(days=500), days, 90)
    assert later.added_up + later.dropped == len(some) and sum(one.number for one in told(ledger)) == later.added_up
    gone = ledger.trail.thin("loft", NOW + timedelta(days=500), days, 90)
    assert gone.dropped == later.added_up and not told(ledger)
    assert ledger.chain.prove().holds


def _by_day(some) -> dict[tuple[object, ...], tuple[int, datetime]]:
    found: dict[tuple[object, ...], tuple[int, datetime]] = {}
    for one in some:
        folder = one.path if one.number > 1 or not one.device else one.path.rpartition(b"/")[0] or b""
        key = one.moment.date(), one.who, one.did, one.is_done, folder
        number, last = found.get(key, (0, one.moment))
        found[key] = number + one.number, max(last, one.moment)
    return found


def test_nothing_of_a_removed_person_is_left_in_the_file_and_their_sums_are(tmp_path: Path, run) -> None:
    rng = random.Random(5)
    some = records(rng, 500)
    path = tmp_path / "l.db"
    ledger = ledger_with(path, some)
    others = Counter(one for one in told(ledger) if one.who != "ada")
    done = ledger.trail.forget([("loft", "ADA")])
    theirs = [one for one in some if one.who == "ada"]
    assert done.records == len(theirs) and done.words == 3
    now = told(ledger)
    assert Counter(one for one in now if one.who != REMOVED) == others
    assert sum(one.number for one in now if one.who == REMOVED) == len(theirs)
    assert all(not (one.address or one.device or one.detail) for one in now if one.who == REMOVED)
    assert not told(ledger, logins=[("loft", "ada")])
    assert ledger.chain.prove().holds
    ledger.close()
    data = path.read_bytes()
    assert b"adas phone" not in data and b"10.9.9.1" not in data and b"Bos phone" in data
    # Who does the same by hand is found out.
    with sqlite3.connect(path) as db:
        db.execute("UPDATE trail_words SET text = '', salt = NULL WHERE text = 'Bo'")
    assert "word" in " ".join(open_ledger(path).chain.prove().loose)


def test_alterations_of_the_trail_are_found(tmp_path: Path) -> None:
    path = tmp_path / "l.db"
    ledger_with(path, records(random.Random(1), 200)).close()
    for number, statement in enumerate(
        [
            "UPDATE trail_words SET text = 'eve' WHERE text = 'ada'",
            "UPDATE trail_folders SET path = x'2f64' WHERE id = 1",
            "UPDATE trail_deeds SET did = 8 WHERE did = 6",
            "UPDATE trail_blocks SET first_moment = first_moment + 60 WHERE id = 2",
            "UPDATE trail_blocks SET deeds = (SELECT deeds FROM trail_blocks WHERE id = 1) WHERE id = 2",
            "DELETE FROM trail_blocks WHERE id = 3",
            "INSERT INTO trail_blocks SELECT 99, system, first_moment, last_moment, rows, moments, deeds, folders, names, more, numbers FROM trail_blocks WHERE id = 1",
        ]
    ):
        copy = Path(shutil.copy(path, tmp_path / f"{number}.db"))
        with sqlite3.connect(copy) as db:
            for (name,) in db.execute("SELECT name FROM sqlite_master WHERE type = 'trigger'").fetchall():
                db.execute(f"DROP TRIGGER {name}")
            db.execute(statement)
        assert not open_ledger(copy).chain.prove().holds, statement
    with sqlite3.connect(path) as db, pytest.raises(sqlite3.IntegrityError, match="never altered"):
        db.execute("UPDATE trail_deeds SET did = 2")
    # Damage is told in one line, whatever it is.
    rng = random.Random(2)
    for _ in range(30):
        copy = Path(shutil.copy(path, tmp_path / "damaged.db"))
        with sqlite3.connect(copy) as db:
            db.execute("DROP TRIGGER trail_blocks_never_altered")
            column = rng.choice(["moments", "deeds", "folders", "names", "more"])
            data = bytearray(db.execute(f"SELECT {column} FROM trail_blocks WHERE id = 1").fetchone()[0])
            data[rng.randrange(len(data))] ^= 1 << rng.randrange(8)
            db.execute(f"UPDATE trail_blocks SET {column} = ? WHERE id = 1", (bytes(data[: rng.choice([None, 5])]),))
        ledger = open_ledger(copy)
        try:
            told(ledger), ledger.trail.table("loft", kinds_since=START)
        except LedgerError as error:
            assert "ledger --verify" in str(error)
        ledger.close()


def test_a_folder_is_followed_to_what_it_was_called_before(tmp_path: Path) -> None:
    at = [START + timedelta(hours=number) for number in range(9)]
    some = [
        Record(at[0], "ada", Did.CHANGE, b"/old/a/x"), Record(at[1], "ada", Did.RENAME, b"/old", b"/new"),
        Record(at[2], "ada", Did.CHANGE, b"/new/a/x"), Record(at[3], "ada", Did.MAKE, b"/old", is_folder=True),
        Record(at[4], "ada", Did.CHANGE, b"/old/a/y"), Record(at[5], "ada", Did.RENAME, b"/new/f", b"/new/g"),
    ]  # fmt: skip
    ledger = ledger_with(tmp_path / "l.db", some)
    moves = ledger.trail.moves("loft")
    assert [one.path for one in moves.earlier_names(b"/new/a")] == [b"/old/a"]
    names = {Address("loft", b"/new"): None} | {
        Address("loft", one.path): datetime.fromtimestamp(one.until, UTC) for one in moves.earlier_names(b"/new")
    }
    assert [one.moment for one in told(ledger, below=names)] == [at[0], at[1], at[2], at[5]]


def test_records_of_a_ledger_of_before_are_taken_over(tmp_path: Path) -> None:
    path = tmp_path / "l.db"
    ledger_with(path, []).close()
    with sqlite3.connect(path) as db:
        for statement in DROP_TRAIL:
            db.execute(statement)
        db.executescript(MIGRATIONS[10])
        db.execute("INSERT INTO trail_names VALUES (1, 'loft', 'ada')")
        db.execute("INSERT INTO trail_paths VALUES (1, 'loft', '/a/b'), (2, 'loft', '/a/c')")
        db.execute("UPDATE trail_paths SET path = CAST(path AS BLOB)")
        db.execute("INSERT INTO trail_words VALUES (1, '10.0.0.1')")
        db.execute("INSERT INTO trail_records VALUES (1, 1767225600, 1, 5, 1, 1, 2, 1, NULL, NULL)")
        db.execute("PRAGMA user_version = 11")
    ledger = open_ledger(path)
    assert told(ledger) == [Record(START, "ada", Did.RENAME, b"/a/b", b"/a/c", address="10.0.0.1")]
    assert ledger.chain.prove().holds
