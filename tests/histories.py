"""Histories of a small office: quiet ones, as an office is, and things that go wrong planted in them."""

from __future__ import annotations

import random
from collections.abc import Callable, Iterable, Sequence
from datetime import UTC, date, datetime, timedelta, tzinfo

import numpy as np

from neatledger.core.trail.records import Did, Record
from neatledger.core.trail.signs.contract import History, Known, Sign, SignKind, Thresholds
from neatledger.core.trail.signs.table import find_signs
from neatledger.core.trail.table import DIDS, TrailTable

PAST, DAYS = 120, 30
FIRST = datetime(2026, 3, 2, tzinfo=UTC)
SINCE = FIRST + timedelta(days=PAST)
END = SINCE + timedelta(days=DAYS)
PEOPLE = [f"p{number}" for number in range(12)]
KINDS = ["odt", "ods", "pdf", "jpg", "dcm", "txt"]


def quiet(rng: random.Random) -> list[Record]:
    """Return what is done in five months in which nothing is wrong."""
    found: list[Record] = []
    for number, who in enumerate(PEOPLE):
        begins, ends = rng.uniform(7, 10), rng.uniform(16, 19)
        office, home = f"10.1.2.{rng.randint(10, 99)}", f"203.0.{rng.randint(0, 255)}.{rng.randint(1, 254)}"
        away = FIRST + timedelta(days=rng.randint(20, PAST + DAYS - 20))
        for day in range(PAST + DAYS):
            at = FIRST + timedelta(days=day)
            is_weekend = at.weekday() >= 5
            if (is_weekend and rng.random() > 0.05) or away <= at < away + timedelta(days=12) or rng.random() < 0.04:
                continue
            address = office if rng.random() < 0.85 else home
            if rng.random() < 0.02:
                office = f"10.1.2.{rng.randint(10, 99)}"
            first = at + timedelta(hours=max(6.5, rng.gauss(begins, 0.5)))
            last = at + timedelta(hours=min(20.5, rng.gauss(ends, 0.8)))
            for _ in range(rng.choice([0] * 12 + [1, 2, 3])):
                found.append(Record(first - timedelta(seconds=20), who, Did.SIGN_IN, is_done=False, address=address))
            found.append(Record(first, who, Did.SIGN_IN, address=address))
            found += _work(rng, who, number, first, last, address)
    return sorted(found, key=lambda one: one.moment)


def _work(
    rng: random.Random, who: str, number: int, first: datetime, last: datetime, address: str
) -> Iterable[Record]:
    seconds = max(600, int((last - first).total_seconds()))

    def moment() -> datetime:
        return first + timedelta(seconds=rng.randrange(seconds))

    for _ in range(rng.randint(5, 30)):
        did = rng.choice([Did.OPEN] * 5 + [Did.CHANGE] * 4 + [Did.DELETE, Did.RENAME, Did.MAKE])
        path = f"/desk/{number % 5}/{rng.randint(0, 40)}.{rng.choice(KINDS)}".encode()
        to = path.replace(b".", b"b.") if did is Did.RENAME else b""
        yield Record(moment(), who, did, path, to, address=address)
    if rng.random() < 0.04:
        # A tidy-up, or photographs of an afternoon: many files, as it happens to be.
        start, did = moment(), rng.choice([Did.DELETE, Did.CHANGE, Did.RENAME])
        for each in range(rng.randint(20, 110)):
            path = f"/desk/{number % 5}/bulk {each}.{rng.choice(KINDS)}".encode()
            to = path.replace(b"bulk", b"2026") if did is Did.RENAME else b""
            yield Record(start + timedelta(seconds=3 * each), who, did, path, to, address=address)
    if rng.random() < 0.01:
        start = moment()
        for each in range(rng.randint(1, 4)):
            yield Record(start + timedelta(minutes=2 * each), who, Did.RIGHTS, f"/desk/{number % 5}".encode())


def _when(rng: random.Random, hour: float = 0) -> datetime:
    """Return a moment of the days that are looked at; of a working day, in the hours of work if none is given."""
    while True:
        at = SINCE + timedelta(days=rng.randint(1, DAYS - 2))
        if at.weekday() < 5:
            return at + timedelta(hours=hour or rng.uniform(10, 15))


def _files(rng: random.Random, who: str, did: Did, number: int, ending: str = "") -> list[Record]:
    start, found = _when(rng), []
    for each in range(number):
        path = f"/desk/{rng.randint(0, 4)}/old {each}.{rng.choice(KINDS)}".encode()
        to = path + ending.encode() if did is Did.RENAME else b""
        found.append(Record(start + timedelta(seconds=rng.uniform(0.5, 1.5) * each), who, did, path, to))
    return found


def _tried(rng: random.Random) -> list[Record]:
    start, who, number = _when(rng), rng.choice(PEOPLE), rng.randint(12, 60)
    pause = rng.uniform(1, 40)
    return [
        Record(start + timedelta(seconds=pause * each), who, Did.SIGN_IN, is_done=False, address="10.1.2.200")
        for each in range(number)
    ]


def _sprayed(rng: random.Random) -> list[Record]:
    start, pause = _when(rng), rng.uniform(1, 60)
    return [
        Record(start + timedelta(seconds=pause * each), who, Did.SIGN_IN, is_done=False, address="198.51.100.7")
        for each, who in enumerate(rng.sample(PEOPLE, rng.randint(8, 12)))
    ]


def _twice(rng: random.Random) -> list[Record]:
    start, who, path = _when(rng), rng.choice(PEOPLE), b"/desk/private"
    again = start + timedelta(hours=rng.uniform(0.5, 20))
    return [
        Record(start, who, Did.RIGHTS, path),
        Record(start + timedelta(minutes=9), who, Did.OPEN, path + b"/a.odt"),
        Record(again, who, Did.RIGHTS, path),
    ]


PLANTED: dict[SignKind, Callable[[random.Random], list[Record]]] = {
    SignKind.ACCOUNT_TRIED: _tried,
    SignKind.ACCOUNTS_TRIED: _sprayed,
    SignKind.LEFT_BUT_ACTIVE: lambda rng: [Record(_when(rng), "gone", Did.SIGN_IN, address="10.1.2.20")],
    SignKind.UNKNOWN_ACCOUNT: lambda rng: [Record(_when(rng), "backup$", Did.OPEN, b"/desk/1/1.odt")],
    SignKind.UNUSUAL_HOUR: lambda rng: [
        Record(_when(rng, rng.uniform(1, 3)), rng.choice(PEOPLE), Did.SIGN_IN, address="10.1.2.20")
    ],
    SignKind.UNUSUAL_PLACE: lambda rng: [
        Record(_when(rng, rng.uniform(20.6, 21.5)), rng.choice(PEOPLE), Did.SIGN_IN, address="198.51.100.9")
    ],
    SignKind.MASS_DELETION: lambda rng: _files(rng, rng.choice(PEOPLE), Did.DELETE, rng.randint(600, 900)),
    SignKind.MASS_RENAMING: lambda rng: _files(rng, rng.choice(PEOPLE), Did.RENAME, 800, ".odt"),
    SignKind.MASS_WRITING: lambda rng: _files(rng, rng.choice(PEOPLE), Did.CHANGE, rng.randint(600, 900)),
    SignKind.ONE_UNKNOWN_KIND: lambda rng: _files(rng, rng.choice(PEOPLE), Did.RENAME, rng.randint(40, 90), ".zzx"),
    SignKind.WIDENED_AND_NARROWED: _twice,
    SignKind.LOGGING_CHANGED: lambda rng: [Record(_when(rng), "p1", Did.LOGGING, detail="switched off")],
}
KNOWN = Known(
    frozenset([*PEOPLE, "gone"]), {"gone": (date(2026, 5, 1), "their last day was 2026-04-30")},
    frozenset(one.encode() for one in KINDS),
)  # fmt: skip


def signs(
    records: Iterable[Record], since: datetime = SINCE, end: datetime = END, known: Known = KNOWN, zone: tzinfo = UTC
) -> list[Sign]:
    """Return what looks wrong in some records, of the last month unless another time is said."""
    ordered = sorted(records, key=lambda one: one.moment)

    def fetch(login: str, did: Did, first: int, end: int) -> list[Record]:
        return [
            one for one in ordered if one.who == login and one.did is did and first <= one.moment.timestamp() < end
        ]

    span = int(since.timestamp()), int(end.timestamp())
    return find_signs(History(table_of(ordered), *span, Thresholds(), known, fetch, zone))


def table_of(records: Sequence[Record]) -> TrailTable:
    """Return records as columns, as the ledger gives them."""
    logins, paths, places, kinds = (list[object]() for _ in range(4))

    def place(some: list[object], known: dict[object, int], value: object) -> int:
        if not value:
            return -1
        if value not in known:
            known[value] = len(some)
            some.append(value)
        return known[value]

    seen: list[dict[object, int]] = [{} for _ in range(4)]
    rows = [
        (
            int(one.moment.timestamp()), one.number, place(logins, seen[0], one.who), DIDS.index(one.did), one.is_done,
            place(paths, seen[1], one.path.rpartition(b"/")[0]), place(places, seen[2], one.address),
            place(kinds, seen[3], (one.to or one.path).rpartition(b".")[2] if b"." in one.path else b""),
        )
        for one in records
    ]  # fmt: skip
    types = (np.int64, np.int64, np.int32, np.uint8, np.bool_, np.int32, np.int32, np.int32)
    columns = zip(*rows, strict=True) if rows else [()] * len(types)
    arrays = [np.array(column, dtype) for column, dtype in zip(columns, types, strict=True)]
    return TrailTable("loft", *arrays, logins, paths, places, kinds)  # type: ignore[arg-type]
