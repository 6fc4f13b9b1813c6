"""What looks wrong in a trail, one off on either side of where it begins to be told."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import replace
from datetime import UTC, date, datetime, timedelta, timezone, tzinfo
from itertools import pairwise

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from histories import signs as signs_in
from neatledger.core.trail.records import Did, Record
from neatledger.core.trail.signs.bursts import bursts, busiest, runs
from neatledger.core.trail.signs.contract import Known, Sign, Thresholds

START = datetime(2026, 1, 5, tzinfo=UTC)  # a Monday
KNOWN = Known(
    frozenset({"ada", "ben"}), {"cy": (date(2026, 2, 10), "their last day was 2026-02-09")}, frozenset({b"odt"})
)


def at(days: float, who: str = "ada", did: Did = Did.SIGN_IN, address: str = "10.0.0.1", **more: object) -> Record:
    return Record(START + timedelta(days=days), who, did, address=address, **more)  # type: ignore[arg-type]


def signs(records: Iterable[Record], since: float = 0, now: float = 400, zone: tzinfo = UTC) -> list[Sign]:
    """Return the signs from a day on."""
    first, last = (START + timedelta(days=day) for day in (since, now))
    return signs_in(records, first, last, KNOWN, zone)


def told(records: Iterable[Record], since: float = 0, now: float = 400, zone: tzinfo = UTC) -> list[str]:
    return [one.kind.value for one in signs(records, since, now, zone)]


def daily(days: Iterable[int], hour: float = 9, **more: object) -> list[Record]:
    return [at(day + hour / 24, **more) for day in days]  # type: ignore[arg-type]


def busy(days: int, number: int = 20, first: int = 0) -> list[Record]:
    return [at(first + day + n * MINUTE) for day in range(days) for n in range(number)]


PLACE, HOUR, SILENT = "unusual-place", "unusual-hour", "nothing-written"
MINUTE = 1 / 1440
CASES: list[tuple[str, Sequence[Record], float, float, bool]] = [
    # In the first month every place is new; a provider gives out other addresses of a large network.
    (PLACE, [*daily(range(31)), at(30 + 9 / 24, address="198.51.100.7")], 0, 31, True),
    (PLACE, [*daily(range(31)), at(30 + 8.99 / 24, address="198.51.100.7")], 0, 31, False),
    (PLACE, [*daily(range(31)), at(30.5, address="10.0.255.9")], 0, 31, False), (PLACE, [*daily(range(31)), at(30.5, address="10.1.0.1")], 0, 31, True),
    (PLACE, [*daily(range(31)), at(30.5, address="10.1.0.1", is_done=False)], 0, 31, False), (PLACE, [*daily(range(31)), at(30.5, address="Desk 3")], 0, 31, False),
    (PLACE, [*daily(range(31), address="2001:db8::1"), at(30.5, address="2001:db8:ffff::1")], 0, 31, False),
    (PLACE, [*daily(range(31), address="2001:db8::1"), at(30.5, address="2001:db9::1")], 0, 31, True),
    (PLACE, [*daily(range(31)), at(30.5, address="10.1.0.1")], 30.51, 31, False), (PLACE, [*daily(range(31)), at(30.5, address="10.1.0.1")], 30.5, 31, True),
    # Three hours from any at which they came: on fifteen days or more of the last ninety, for a month.
    (HOUR, [*daily(range(31)), at(31 + 12 / 24)], 31, 32, True), (HOUR, [*daily(range(31)), at(31 + 11.99 / 24)], 31, 32, False),
    (HOUR, [*daily(range(31)), at(31 + 6.99 / 24)], 31, 32, True), (HOUR, [*daily(range(31)), at(31 + 7 / 24)], 31, 32, False),
    (HOUR, [*daily(range(31), 23), at(32 + 1.5 / 24)], 32, 33, False), (HOUR, [*daily(range(31), 23), at(32 + 2.01 / 24)], 32, 33, True),
    (HOUR, [*daily(range(0, 30, 2)), at(30 + 12 / 24)], 30, 31, True), (HOUR, [*daily([0, *range(3, 29, 2)]), at(30 + 12 / 24)], 30, 31, False),
    (HOUR, [*daily(range(1, 31)), at(30.99)], 30.5, 31, False), (HOUR, [*daily(range(95)), at(5 + 12 / 24), at(95 + 11.99 / 24)], 95, 96, False),
    (HOUR, [*daily(range(95)), at(4 + 12 / 24), at(95 + 12.5 / 24)], 95, 96, True), (HOUR, [*daily(range(95)), at(6 + 12 / 24), at(95 + 12.5 / 24)], 95, 96, False),
    # Whoever is still there did not come.
    (HOUR, [*daily(range(31)), at(31 + 7 / 24), at(31 + 12.9 / 24)], 31, 32, False), (HOUR, [*daily(range(31)), at(31.3125), at(31.5625)], 31, 32, False), (HOUR, [*daily(range(31)), at(31 + 7 / 24), at(31 + 13.1 / 24)], 31, 32, True),
    # Nothing for four days, where in four weeks twelve days had twenty records each.
    (SILENT, busy(12), 0, 11 + 4 + 20 * MINUTE, True), (SILENT, busy(12), 0, 11 + 3.99, False), (SILENT, busy(11), 0, 20, False), (SILENT, busy(12, 19), 0, 20, False),
    (SILENT, [*busy(12), at(18)], 0, 19, True), (SILENT, [*busy(12), at(18)], 18.1, 19, False), (SILENT, [*busy(12), *busy(1, 20, 40)], 0, 41, True),
    (SILENT, [*busy(1), *busy(11, 20, 28)], 0, 50, False), (SILENT, [*busy(1), *busy(11, 20, 17)], 0, 50, True),
    ("account-tried", [at(n * MINUTE, is_done=False) for n in range(10)], 0, 1, True), ("account-tried", [at(n * MINUTE, is_done=False) for n in range(9)], 0, 1, False),
    ("account-tried", [at(n * 10 / 9 * MINUTE, is_done=False) for n in range(10)], 0, 1, True),
    ("account-tried", [at(n * 10.1 / 9 * MINUTE, is_done=False) for n in range(10)], 0, 1, False), ("account-tried", [at(n * MINUTE) for n in range(10)], 0, 1, False),
    ("account-tried", [at(n * MINUTE, is_done=False) for n in range(10)], 1, 2, False), ("account-tried", [at(n / 1024, is_done=False) for n in range(10)], 9 / 1024, 2, False),
    ("account-tried", [at(n / 2048, is_done=False) for n in range(10)], 9 / 2048, 2, True), ("account-tried", [at(n / 2048, is_done=False) for n in range(10)], 10 / 2048, 2, False),
    ("accounts-tried", [at(n / 2048, f"x{n}", is_done=False) for n in range(6)], 5 / 2048, 2, True), ("accounts-tried", [at(n / 2048, f"x{n}", is_done=False) for n in range(6)], 6 / 2048, 2, False),
    ("accounts-tried", [at(n * MINUTE, f"x{n}", is_done=False) for n in range(6)], 0, 1, True), ("accounts-tried", [at(n * MINUTE, f"x{n}", is_done=False) for n in range(5)], 0, 1, False),
    ("accounts-tried", [at(n * MINUTE, f"x{n % 5}", is_done=False) for n in range(9)], 0, 1, False),
    ("accounts-tried", [at(n * MINUTE, f"x{n}", address=f"10.0.0.{n}", is_done=False) for n in range(6)], 0, 1, False),
    ("left-but-active", [at(36, "cy")], 0, 40, True), ("left-but-active", [at(35.999, "cy")], 0, 40, False), ("left-but-active", [at(36, "CY", Did.OPEN, path=b"/a/b")], 0, 40, True),
    ("left-but-active", [at(36, "cy", is_done=False)], 0, 40, False), ("unknown-account", [at(1, "dee")], 0, 2, True), ("unknown-account", [at(1, "Ada")], 0, 2, False),
    ("unknown-account", [at(1, "dee", Did.ACCOUNT)], 0, 2, False), ("unknown-account", [at(1, "dee", Did.OPEN, path=b"/a/b")], 0, 2, True),
    ("unknown-account", [at(1, "dee")], 1.01, 2, False), ("logging-changed", [at(1, did=Did.LOGGING), at(1.5, did=Did.LOGGING, detail="audit off")], 1, 2, True), ("logging-changed", [at(1, did=Did.LOGGING)], 1.01, 2, False),
    ("mass-deletion", [at(n * MINUTE / 25, did=Did.DELETE, path=b"/a/%d" % n) for n in range(200)], 0, 1, True),
    ("mass-deletion", [at(n * MINUTE / 25, did=Did.DELETE, path=b"/a/%d" % n) for n in range(199)], 0, 1, False),
    ("mass-deletion", [at(n * MINUTE / 25, did=Did.DELETE, path=b"/a/%d" % (n % 199)) for n in range(400)], 0, 1, False),
    ("widened-and-narrowed", [at(1, did=Did.RIGHTS, path=b"/a"), at(2, did=Did.RIGHTS, path=b"/a")], 0, 3, True),
    ("widened-and-narrowed", [at(1, did=Did.RIGHTS, path=b"/a"), at(2.001, did=Did.RIGHTS, path=b"/a")], 0, 3, False),
    ("widened-and-narrowed", [at(1, did=Did.RIGHTS, path=b"/a"), at(2, did=Did.RIGHTS, path=b"/b")], 0, 3, False),
    ("widened-and-narrowed", [at(1, did=Did.RIGHTS, path=b"/a"), at(2, did=Did.RIGHTS, path=b"/a")], 1, 3, True),
    ("widened-and-narrowed", [at(1, did=Did.RIGHTS, path=b"/a"), at(2, did=Did.RIGHTS, path=b"/a")], 1.25, 3, False),
    ("widened-and-narrowed", [at(n / 144, did=Did.RIGHTS, path=b"/a") for n in range(2)], 0, 3, True),
    ("widened-and-narrowed", [at(n / 160, did=Did.RIGHTS, path=b"/a") for n in range(2)], 0, 3, False),
    ("widened-and-narrowed", [at(1, did=Did.RIGHTS, path=b"/a"), at(1 + MINUTE / 60, did=Did.RIGHTS, path=b"/a")], 0, 3, False),
]  # fmt: skip


@pytest.mark.parametrize(("kind", "records", "since", "now", "is_told"), CASES, ids=range(len(CASES)))
def test_a_sign_is_told_from_there_on(
    kind: str, records: Sequence[Record], since: float, now: float, is_told: bool
) -> None:
    assert (kind in told(records, since, now)) == is_told


@pytest.mark.parametrize(("kind", "records", "since", "now", "is_told"), CASES, ids=range(len(CASES)))
def test_signs_are_told_as_they_were(
    kind: str, records: Sequence[Record], since: float, now: float, is_told: bool, recorded
) -> None:
    recorded(signs(records, since, now))


@given(st.lists(st.integers(0, 60), max_size=25).map(sorted), st.integers(0, 15), st.integers(1, 6))
def test_bursts_are_where_some_window_holds_enough(moments: list[int], window: int, least: int) -> None:
    some = np.array(moments, dtype=np.int64)
    dense = set()
    for start in range(len(moments) - least + 1):
        if moments[start + least - 1] - moments[start] <= window:
            dense |= set(range(start, start + least))
    found = list(bursts(some, window, least))
    covered = {place for first, last in found for place in range(first, last + 1)}
    assert covered == dense and all(a[1] < b[0] for a, b in pairwise(found))
    assert busiest(some, window) == max(
        (sum(0 <= other - one <= window for other in moments) for one in moments), default=0
    )
    pauses = [n for n in range(len(moments)) if n == 0 or moments[n] - moments[n - 1] > window]
    assert runs(some, window) == pauses


def test_what_is_not_said_of_signs_is_as_the_manual_has_it() -> None:
    limits = Thresholds.of({})
    assert (limits.failed_sign_ins, limits.failed_accounts, limits.burst_minutes, limits.mass_files) == (
        10,
        6,
        10,
        200,
    )
    assert (limits.mass_times, limits.unknown_kind_files, limits.widened_hours, limits.silent_days) == (5, 20, 24, 4)
    assert Thresholds.of({"mass-files": 7, "unknown": 1}) == replace(limits, mass_files=7)


REFUSED = [at(n * MINUTE, is_done=False) for n in range(10)]
LET_IN = [
    ([], "none was let in"), ([at(10 * MINUTE)], "then one was let in"), ([at(70 * MINUTE)], "none was let in"), ([at(69 * MINUTE)], "then one was let in"),
    ([at(9 * MINUTE)], "then one was let in"), ([at(8 * MINUTE)], "none was let in"), ([at(10 * MINUTE, address="10.0.0.2")], "none was let in"),
    ([at(10 * MINUTE, "ben")], "none was let in"), ([at(80 * MINUTE, is_done=False)], "none was let in"),
]  # fmt: skip


@pytest.mark.parametrize(("more", "words"), LET_IN, ids=range(len(LET_IN)))
def test_whether_one_was_let_in_after_all(more: list[Record], words: str) -> None:
    (one,) = [sign for sign in signs([*REFUSED, *more]) if sign.kind.value == "account-tried"]
    assert (
        words in one.words
        and one.words.startswith("10 sign-ins refused in 9 minutes")
        and (one.figure, one.login) == (10, "ada")
    )
    *others, last = REFUSED
    (one,) = [sign for sign in signs([*others, last._replace(address="10.0.0.9"), *(each._replace(address="10.0.0.9") for each in more)])
              if sign.kind.value == "account-tried"]  # fmt: skip
    assert ("then one" in one.words) == ("then one" in words or any(record.address == "10.0.0.2" for record in more))
    nowhere = [record._replace(address="") for record in (*REFUSED, *more)]
    (one,) = [sign for sign in signs(nowhere) if sign.kind.value == "account-tried"]
    assert ("then one" in one.words) == ("then one" in words or any(record.address == "10.0.0.2" for record in more))


def test_only_those_of_the_burst_are_counted() -> None:
    tried = [at(n * MINUTE, f"x{n}", is_done=False) for n in range(6)]
    (one,) = [
        sign for sign in signs([*tried, at(60 * MINUTE, "y", is_done=False)]) if sign.kind.value == "accounts-tried"
    ]
    assert one.figure == 6 and one.words == "6 accounts tried in 5 minutes, from 10.0.0.1: x0, x1, x2 and 3 more"
    (one,) = [
        sign
        for sign in signs([record._replace(address="") for record in tried])
        if sign.kind.value == "accounts-tried"
    ]
    assert "from where is not known" in one.words


def test_hours_are_those_of_where_people_work() -> None:
    east, west = (timezone(timedelta(hours=hours)) for hours in (5, -5))
    records = [*daily(range(31), 9), at(31 + 12 / 24)]
    for zone, hour in ((UTC, "12:00"), (east, "17:00"), (west, "07:00")):
        (one,) = [sign for sign in signs(records, 31, 32, zone) if sign.kind.value == HOUR]
        assert (
            one.words == f"came at {hour}, 3 hours from any hour at which they were seen in 31 days before"
            and one.figure == 3
        )
