"""Forecasts on made histories: the interval holds the truth at its rate, and breaks and single counts do not ruin it."""

from __future__ import annotations

import json
from datetime import date, timedelta
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from scipy.special import stdtrit
from scipy.stats import theilslopes

from neatledger.core.space.forecast import FEWEST, RATE, find_trend
from neatledger.core.space.quantiles import student_quantile
from neatledger.core.space.when import YEARS, Meeting

FIRST = date(2025, 1, 6)
MB = 1_000_000


def history(amounts) -> list[tuple[date, int]]:
    return [(FIRST + timedelta(weeks=week), round(float(amount))) for week, amount in enumerate(amounts)]


def least_squares_width(y: np.ndarray) -> float:
    """Return how wide the interval of a least-squares slope is, in bytes a day."""
    t = np.arange(len(y)) * 7.0
    t -= t.mean()
    slope = (t * y).sum() / (t**2).sum()
    left = y - y.mean() - slope * t
    error = np.sqrt((left**2).sum() / (len(y) - 2) / (t**2).sum())
    return float(2 * stdtrit(len(y) - 2, (1 + RATE) / 2) * error)


def make(sort: str, weeks: int, rng: np.random.Generator) -> tuple[float, np.ndarray]:
    """Make a history: its true growth (bytes a day), and what was counted each week."""
    slope, noise = rng.uniform(-0.3, 1) * MB, rng.choice([0.5, 2, 6]) * MB
    week = np.arange(weeks)
    y = 500 * MB + slope * week * 7
    left = rng.normal(0, noise, weeks)
    match sort:
        case "by the month":
            left = left * 0.3 + 3 * noise * np.sin(2 * np.pi * (week / 4.3 + rng.random()))
        case "by the quarter":
            left = left * 0.3 + 3 * noise * np.sin(2 * np.pi * (week / 13 + rng.random()))
        case "an import":
            y[rng.integers(weeks) :] += rng.uniform(8, 60) * noise
        case "three steps":
            for _ in range(3):
                y[rng.integers(weeks) :] += rng.choice([-1, 1]) * rng.uniform(8, 60) * noise
        case "a clean-up":
            y[rng.integers(weeks // 4, weeks) :] -= rng.uniform(20, 100) * noise
        case "outliers":
            some = rng.choice(weeks, max(1, weeks // 10), replace=False)
            left[some] += rng.uniform(10, 60, len(some)) * noise
        case "heavy tails":
            left = rng.standard_t(2, weeks) * noise
        case "all of it":
            y[rng.integers(weeks) :] -= rng.uniform(8, 60) * noise
            some = rng.choice(weeks, max(1, weeks // 12), replace=False)
            left[some] += rng.uniform(10, 60, len(some)) * noise
    return slope, y + left


SORTS = (
    *("noise", "by the month", "by the quarter", "an import", "three steps", "a clean-up", "outliers"),
    *("heavy tails", "all of it"),
)
TRIALS = 40


@pytest.mark.parametrize("sort", SORTS)
@pytest.mark.parametrize("weeks", [20, 60])
def test_the_interval_holds_the_truth_at_its_rate(sort: str, weeks: int) -> None:
    rng = np.random.default_rng(SORTS.index(sort) * 100 + weeks)
    held, narrower = 0, []
    for _ in range(TRIALS):
        slope, y = make(sort, weeks, rng)
        trend = find_trend(history(y))
        assert trend is not None and trend.low <= trend.slope <= trend.high
        held += trend.low <= slope <= trend.high
        narrower.append((trend.high - trend.low) / least_squares_width(y))
    # Four standard deviations of a share of so many trials below the stated rate would be a fault.
    assert held / TRIALS >= RATE - 4 * np.sqrt(RATE * (1 - RATE) / TRIALS), f"{held} of {TRIALS}"
    if sort in ("outliers", "a clean-up", "three steps", "all of it"):
        assert np.median(narrower) < 0.5, "a least-squares line is ruined by these"


def test_plain_histories_have_the_slope_that_others_find_too() -> None:
    rng = np.random.default_rng(5)
    for _ in range(20):
        _, y = make("noise", 30, rng)
        amounts = history(y)
        theirs = theilslopes([used for _, used in amounts], np.arange(30) * 7, RATE)
        trend = find_trend(amounts)
        assert trend is not None and not trend.breaks
        assert trend.slope == pytest.approx(theirs.slope, abs=abs(theirs.high_slope - theirs.low_slope) * 0.02)
        assert trend.high - trend.low > 0.9 * (theirs.high_slope - theirs.low_slope)


def test_a_clean_up_and_an_import_are_found_where_they_are_and_told() -> None:
    rng = np.random.default_rng(6)
    y = 100 * MB + 2 * MB * np.arange(40) + rng.normal(0, 0.4 * MB, 40)
    y[12:] -= 40 * MB
    y[25:] += 30 * MB
    trend = find_trend(history(y))
    assert trend is not None
    assert [each.day for each in trend.breaks] == [FIRST + timedelta(weeks=week) for week in (12, 25)]
    assert [round(each.amount / MB, -1) for each in trend.breaks] == [-40, 30]
    assert trend.slope * 7 == pytest.approx(2 * MB, rel=0.1)
    y[20] += 50 * MB
    assert [each.day for each in (find_trend(history(y)) or trend).breaks] == [each.day for each in trend.breaks]
    y[39] += 25 * MB
    last = find_trend(history(y))
    assert last is not None and last.stands_out == pytest.approx(25 * MB, rel=0.1)
    assert last.level == pytest.approx(y[39], rel=0.01), "what the next count will tell stands for now"


def test_a_growth_that_changes_is_told_or_the_interval_says_how_little_is_known() -> None:
    rng = np.random.default_rng(8)
    week = np.arange(40)
    for turn in (15, 20, 28):
        y = 500 * MB + 7 * MB * week + 21 * MB * np.maximum(0, week - turn) + rng.normal(0, 2 * MB, 40)
        trend = find_trend(history(y))
        assert trend is not None and trend.low <= 4 * MB <= trend.high
        if turn == 28:
            assert trend.changed is not None and abs((trend.changed - FIRST).days / 7 - turn) < 6


def test_levels_are_met_already_on_a_day_or_not_at_all() -> None:
    trend = find_trend(history(100 * MB + 7 * MB * np.arange(20)))
    assert trend is not None and trend.amount == 233 * MB
    assert trend.meets(233 * MB).meeting is Meeting.ALREADY
    soon = trend.meets(240 * MB)
    assert (soon.meeting, soon.day) == (Meeting.ON, trend.today + timedelta(days=7))
    assert soon.earliest <= soon.day <= soon.latest
    far = trend.meets(10**13)
    assert (far.meeting, far.day) == (Meeting.NOT_WITHIN, None) and str(YEARS) in far.meeting.value
    falling = find_trend(history(900 * MB - 7 * MB * np.arange(20)))
    assert falling is not None and falling.meets(900 * MB).meeting is Meeting.NOT_WITHIN
    low, high = trend.expected(trend.today + timedelta(weeks=10))[1:]
    assert low <= 233 * MB + 70 * MB <= high
    assert find_trend(history([MB] * (FEWEST - 1))) is None
    assert find_trend([(FIRST, week) for week in range(20)]) is None, "twenty counts of one day are one"


@given(st.lists(st.integers(0, 10**13), min_size=FEWEST, max_size=30), st.integers(1, 1000))
def test_any_history_has_an_ordered_answer_that_units_do_not_change(amounts: list[int], factor: int) -> None:
    trend = find_trend(history(amounts))
    assert trend is not None and trend.low <= trend.slope <= trend.high and trend.amount == amounts[-1]
    for level in (0, amounts[-1], amounts[-1] + 1, 10**14):
        when = trend.meets(level)
        assert (when.meeting is Meeting.ALREADY) == (amounts[-1] >= level)
        days = [day for day in (when.earliest, when.day, when.latest) if day is not None]
        assert days == sorted(days)
    still = find_trend(history([amounts[0] * factor] * len(amounts)))
    assert still is not None and (still.slope, still.breaks, still.stands_out) == (0, (), 0)


@given(st.floats(0.5, 5000), st.sampled_from([0.7, 0.9, 0.95, 0.975, 0.999]))
def test_a_quantile_is_that_of_the_library_for_statistics(freedom: float, probability: float) -> None:
    assert student_quantile(freedom, probability) == pytest.approx(float(stdtrit(freedom, probability)), rel=1e-9)


VECTORS = json.loads((Path(__file__).parent / "vectors" / "forecast.json").read_text())


@pytest.mark.parametrize("case", VECTORS, ids=lambda case: f"{case['sort']}-{len(case['kB'])}")
def test_a_history_has_the_trend_that_it_had(case) -> None:
    trend = find_trend(history([1000 * amount for amount in case["kB"]]))
    assert trend is not None and trend.counts == len(case["kB"])
    found = [trend.level, trend.margin, trend.slope, trend.low, trend.high, trend.stands_out]
    assert found == pytest.approx(case["trend"], rel=1e-6, abs=1e-3)
    later = trend.expected(trend.today + timedelta(days=60))
    assert later == pytest.approx(case["in_60_days"], rel=1e-6) and later[1] <= later[0] <= later[2]
    assert [[each.day.isoformat(), each.amount] for each in trend.breaks] == case["breaks"]
    assert (trend.changed and trend.changed.isoformat()) == case["changed"]
    when = trend.meets(round(trend.amount * 1.2))
    days = [day and day.isoformat() for day in (when.day, when.earliest, when.latest)]
    assert [when.meeting.value, *days] == case["meets"]
