"""What looks wrong: planted in quiet histories it is found, and quiet ones stay quiet; at rates that are counted."""

from __future__ import annotations

import random
from collections import Counter
from datetime import timedelta

import pytest

from histories import DAYS, END, PLANTED, SINCE, quiet, signs
from neatledger.core.trail.records import Did, Record
from neatledger.core.trail.signs.contract import Sign, SignKind

FOUND, ALARMS = 0.95, 1.0


def rates(seeds: range) -> tuple[dict[SignKind, float], list[Sign]]:
    """Return how much of what was planted is found, and what is told of quiet histories, a month each."""
    found: Counter[SignKind] = Counter()
    alarms: list[Sign] = []
    for seed in seeds:
        rng = random.Random(seed)
        records = quiet(rng)
        before = signs(records)
        alarms += before
        known = {(one.kind, one.login, one.first) for one in before}
        planted = [one for plant in PLANTED.values() for one in plant(rng)]
        new = {one.kind for one in signs([*records, *planted]) if (one.kind, one.login, one.first) not in known}
        found.update(new)
    return {kind: found[kind] / len(seeds) for kind in PLANTED}, alarms


@pytest.mark.seeds(1)
def test_what_is_planted_is_found_and_a_quiet_month_is_quiet(seed: int) -> None:
    found, alarms = rates(range(seed * 4, seed * 4 + 4))
    assert all(rate >= FOUND for rate in found.values()), found
    assert len(alarms) <= ALARMS * 4, alarms


def test_a_log_that_falls_silent_is_told_and_a_long_weekend_is_not() -> None:
    records = quiet(random.Random(1))
    day = SINCE + timedelta(days=10)  # a Friday
    for days, kinds in ((3, []), (6, [SignKind.NOTHING_WRITTEN])):
        left = [one for one in records if not day <= one.moment < day + timedelta(days=days)]
        assert [one.kind for one in signs(left) if one.kind is SignKind.NOTHING_WRITTEN] == kinds
    cut = [one for one in records if one.moment < END - timedelta(days=9)]
    last = [one for one in signs(cut) if one.kind is SignKind.NOTHING_WRITTEN]
    assert len(last) == 1 and "up to the last reading" in last[0].words and last[0].figure >= 8


def test_every_sign_says_its_figure_and_from_what_on_it_is_told() -> None:
    rng = random.Random(3)
    records = quiet(rng)
    all_told = signs([*records, *(one for plant in PLANTED.values() for one in plant(rng))])
    assert {one.kind for one in all_told} >= PLANTED.keys()
    for told in all_told:
        kind = told.kind
        assert told.figure >= told.threshold or kind is SignKind.WIDENED_AND_NARROWED
        assert told.words and SINCE <= told.first <= told.last < END
    start = SINCE + timedelta(days=5, hours=11)
    nine = [Record(start + timedelta(seconds=one), "p1", Did.SIGN_IN, is_done=False) for one in range(9)]
    assert not [one for one in signs([*records, *nine]) if one.kind is SignKind.ACCOUNT_TRIED]
    let_in = [*nine, Record(start + timedelta(seconds=9), "p1", Did.SIGN_IN, is_done=False), Record(start + timedelta(seconds=30), "p1", Did.SIGN_IN)]  # fmt: skip
    told = next(one for one in signs([*records, *let_in]) if one.kind is SignKind.ACCOUNT_TRIED)
    assert told.figure == 10 and "then one was let in" in told.words


def test_nothing_is_unusual_where_there_is_no_past() -> None:
    few = [
        Record(SINCE + timedelta(days=day, hours=3), "p1", Did.SIGN_IN, address="192.0.2.1")
        for day in range(DAYS - 1)
    ]
    assert not signs(few)
    assert not signs([])
