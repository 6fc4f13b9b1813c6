"""Forecasts on made histories: the interval holds the truth at its rate, and breaks and single counts do not ruin it."""

from __future__ import annotations

import json
from datetime import date, timedelta
from pathlib import Path

import numpy as np
import pytest
from hypothesis import example, given
from hypothesis import strategies as st

from neatledger.core.space.forecast import FEWEST, RATE, Trend, find_trend
from neatledger.core.space.growths import Manner
from neatledger.core.space.quantiles import student_quantile
from neatledger.core.space.steady import find_steady
from neatledger.core.space.when import YEARS, Meeting

FIRST = date(2025, 1, 6)
MB = 1_000_000


def history(amounts) -> list[tuple[date, int]]:
    return [(FIRST + timedelta(weeks=week), round(float(amount))) for week, amount in enumerate(amounts)]


def least_squares_width(y: np.ndarray) -> float:
    """Return how wide the interval of a least-squares slope is, in bytes a day."""
    # Long to load, as below: not in each of the processes that run tests.
    from scipy.special import stdtrit

    t = np.arange(len(y)) * 7.0
    t -= t.mean()
    slope = (t * y).sum() / (t**2).sum()
    left = y - y.mean() - slope * t
    error = np.sqrt((left**2).sum() / (len(y) - 2) / (t**2).sum())
    return float(2 * stdtrit(len(y) - 2, (1 + RATE) / 2) * error)


AHEAD = 26


def make(sort: str, weeks: int, rng: np.random.Generator) -> tuple[float, np.ndarray, np.ndarray]:
    """Make a history: its true growth from now on (bytes a day), what was counted each week, and what comes then."""
    slope, noise = rng.uniform(-0.3, 1) * MB, rng.choice([0.5, 2, 6]) * MB
    whole = weeks + AHEAD
    week = np.arange(whole)
    y = 500 * MB + slope * week * 7
    left = rng.normal(0, noise, whole)
    lump = rng.uniform(1, 7) * MB
    match sort:
        case "by the month":
            left = left * 0.3 + 3 * noise * np.sin(2 * np.pi * (week / 4.3 + rng.random()))
        case "by the quarter":
            left = left * 0.3 + 3 * noise * np.sin(2 * np.pi * (week / 13 + rng.random()))
        case "by the year":
            left = left * 0.3 + 3 * noise * np.sin(2 * np.pi * (week / 52 + rng.random()))
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
            left = rng.standard_t(2, whole) * noise
        case "all of it":
            y[rng.integers(weeks) :] -= rng.uniform(8, 60) * noise
            some = rng.choice(weeks, max(1, weeks // 12), replace=False)
            left[some] += rng.uniform(10, 60, len(some)) * noise
        case "gamma lumps" | "log-normal lumps" | "parcels" | "a walk":
            slope, y = lump / 7, 500 * MB + np.cumsum(_came(sort, lump, whole, rng))
            left = rng.normal(0, lump * rng.choice([0, 0.1]), whole)
        case "clean-ups by the quarter":
            kept, phase = rng.uniform(0, 0.5), rng.integers(13)
            slope, came, held, since = lump * kept / 7, rng.gamma(4, lump / 4, whole), 500 * MB, 0.0
            for each in range(whole):
                held, since = held + came[each], since + came[each]
                if each % 13 == phase:
                    held, since = held - since * (1 - kept), 0.0
                y[each] = held
            left = np.zeros(whole)
        case "a rate that changes" | "growth that stops":
            turn = int(weeks * rng.uniform(0.35, 0.8))
            then = lump * (0 if sort == "growth that stops" else rng.choice([0.25, 0.5, 2, 4]))
            slope, y = then / 7, 500 * MB + lump * np.minimum(week, turn) + then * np.maximum(week - turn, 0)
            left = rng.normal(0, lump * rng.choice([0.1, 0.5, 1]), whole)
    return slope, (y + left)[:weeks], (y + left)[weeks:]


def _came(sort: str, lump: float, whole: int, rng: np.random.Generator) -> np.ndarray:
    """Make what comes each week, `lump` bytes in the mean."""
    if sort == "gamma lumps":
        shape = rng.choice([0.3, 0.7, 1.5])
        return rng.gamma(shape, lump / shape, whole)
    if sort == "log-normal lumps":
        spread = rng.choice([0.6, 1.0, 1.5])
        return rng.lognormal(np.log(lump) - spread**2 / 2, spread, whole)
    if sort == "a walk":
        return rng.normal(lump, lump * rng.uniform(0.5, 2), whole)
    often = rng.choice([0.3, 0.7, 1.5])
    sizes = np.log(lump / often) - 0.125
    return np.array([rng.lognormal(sizes, 0.5, number).sum() for number in rng.poisson(often, whole)])


SORTS = (
    *("noise", "by the month", "by the quarter", "an import", "three steps", "a clean-up", "outliers"),
    *("heavy tails", "all of it"),
)
UNLIKE = (
    *("gamma lumps", "log-normal lumps", "parcels", "a walk", "clean-ups by the quarter", "by the year"),
    *("a rate that changes", "growth that stops"),
)
# Not known before: a wave of a year in less than one, clean-ups by the quarter before the second, how large lumps get.
FIRST_KNOWN = {
    "log-normal lumps": 20,
    "by the year": 60,
    "clean-ups by the quarter": 40,
    "a rate that changes": 20,
    "growth that stops": 20,
}
TRIALS = 30


@pytest.mark.parametrize("sort", SORTS + UNLIKE)
@pytest.mark.parametrize("weeks", [12, 40])
def test_the_interval_holds_the_truth_at_its_rate(sort: str, weeks: int) -> None:
    if weeks < FIRST_KNOWN.get(sort, 0):
        return
    rng = np.random.default_rng((SORTS + UNLIKE).index(sort) * 100 + weeks)
    held, later, narrower = 0, 0, []
    for _ in range(TRIALS):
        slope, y, comes = make(sort, weeks, rng)
        trend = find_trend(history(y))
        assert trend is not None and trend.low <= trend.slope <= trend.high
        held += trend.low <= slope <= trend.high
        low, high = trend.expected(trend.today + timedelta(weeks=13))[1:]
        later += low <= comes[12] <= high
        narrower.append((trend.high - trend.low) / least_squares_width(y))
    # Three standard deviations of a share of so many trials below the stated rate would be a fault.
    least = RATE - 3 * np.sqrt(RATE * (1 - RATE) / TRIALS)
    assert held / TRIALS >= least, f"{held} of {TRIALS}"
    assert sort == "by the year" or later / TRIALS >= least - 0.05, f"{later} of {TRIALS}"
    if weeks > 12 and sort in ("outliers", "a clean-up", "three steps", "all of it"):
        assert np.median(narrower) < 0.5, "a least-squares line is ruined by these"


@pytest.mark.parametrize(("sort", "grows"), [
    ("noise", Manner.STEADY), ("three steps", Manner.STEADY), ("outliers", Manner.STEADY), ("gamma lumps", Manner.LUMPS), ("parcels", Manner.LUMPS),
    ("a walk", Manner.LUMPS), ("clean-ups by the quarter", Manner.LUMPS), ("a rate that changes", Manner.TURNED), ("growth that stops", Manner.TURNED),
])  # fmt: skip
def test_how_a_place_grows_is_told(sort: str, grows: Manner) -> None:
    rng = np.random.default_rng(3)
    found = [find_trend(history(make(sort, 60, rng)[1])) for _ in range(20)]
    assert sum(grows in (trend.manner, *trend.others) for trend in found) >= 18
    assert all((trend.changed is not None) or trend.manner is not Manner.TURNED for trend in found)
    assert all(not trend.breaks or trend.manner is Manner.STEADY for trend in found)
    assert all(trend.ratio is None or trend.ratio > 0 for trend in found)


def test_what_differs_too_much_has_no_date_but_an_earliest_one() -> None:
    rng, uneven = np.random.default_rng(4), 0
    for _ in range(60):
        trend = find_trend(history(make("growth that stops", 12, rng)[1]))
        assert trend is not None
        when = trend.meets(trend.amount + 40 * MB)
        assert (when.meeting is Meeting.UNEVEN) == (trend.is_uneven and when.earliest is not None)
        if when.meeting is Meeting.UNEVEN:
            uneven += 1
            assert when.day is None and trend.others and trend.high - trend.low > 4 * trend.slope > 0
        assert trend.meets(trend.amount).meeting is Meeting.ALREADY
    assert uneven > 3


def test_plain_histories_have_the_slope_that_others_find_too() -> None:
    from scipy.stats import theilslopes

    rng, others = np.random.default_rng(5), 0
    for _ in range(20):
        _, y, _ = make("noise", 30, rng)
        amounts = history(y)
        if (find_trend(amounts) or pytest.fail()).manner is not Manner.STEADY:
            others += 1
            continue
        theirs = theilslopes([used for _, used in amounts], np.arange(30) * 7, RATE)
        trend = find_trend(amounts)
        assert trend is not None and not trend.breaks
        assert trend.slope == pytest.approx(theirs.slope, abs=abs(theirs.high_slope - theirs.low_slope) * 0.02)
        assert trend.high - trend.low > 0.9 * (theirs.high_slope - theirs.low_slope)
    assert others <= 2


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
        assert trend is not None and trend.low - 0.01 * MB <= 4 * MB <= trend.high + 0.01 * MB
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
@example(150.5, 0.999)
def test_a_quantile_is_that_of_the_library_for_statistics(freedom: float, probability: float) -> None:
    from scipy.special import stdtrit

    assert student_quantile(freedom, probability) == pytest.approx(float(stdtrit(freedom, probability)), rel=1e-9)


def facts_of(trend: Trend) -> dict[str, object]:
    """Return all that a trend tells: amounts in bytes, days, words."""
    whole, part = (trend.meets(round(trend.amount * times)) for times in (1.5, 1.02))
    expected = trend.expected(trend.today + timedelta(weeks=13))
    return {
        "amounts": [float(f"{one:.9g}") for one in (
            trend.level, trend.slope, trend.low, trend.high, trend.noise, trend.wander, trend.stands_out, trend.ratio or 0,
            *expected,
        )],
        "breaks": [[one.day.isoformat(), one.amount] for one in trend.breaks],
        "days": [one and one.isoformat() for one in (
            trend.changed, *(day for when in (whole, part) for day in (when.day, when.earliest, when.latest))
        )],
        "words": [trend.manner.value, *(one.value for one in trend.others), whole.meeting.value, part.meeting.value],
    }  # fmt: skip


TRENDS = json.loads((Path(__file__).parent / "vectors" / "trends.json").read_text())


def test_the_trends_are_those_of_which_the_figures_of_coverage_are_true() -> None:
    """`bench/forecasts.py` says how often intervals hold, and writes these."""
    for case in TRENDS:
        trend = find_trend(history([1000 * one for one in case["kB"]]))
        where = f"{case['sort']}, {len(case['kB'])} counts"
        if case["trend"] is None:
            assert trend is None, where
            continue
        assert trend is not None, where
        found = facts_of(trend)
        # Other machines add up in another order.
        assert found.pop("amounts") == pytest.approx(case["trend"].pop("amounts"), rel=1e-6, abs=1e-2), where
        assert found == case["trend"], where


VECTORS = json.loads((Path(__file__).parent / "vectors" / "forecast.json").read_text())


@pytest.mark.parametrize("case", VECTORS, ids=lambda case: f"{case['sort']}-{len(case['kB'])}")
def test_a_history_has_the_trend_that_it_had(case) -> None:
    amounts = 1000.0 * np.array(case["kB"])
    steady = find_steady(np.arange(len(amounts)) * 7.0, amounts)
    out = steady.stands_out
    found = [steady.level + out, steady.margin, steady.slope, steady.low, steady.high, round(out)]
    assert found == pytest.approx(case["trend"], rel=1e-6, abs=1e-3)
    days = [(FIRST + timedelta(weeks=place)).isoformat() for place, _ in steady.breaks]
    assert [[day, round(jump)] for day, (_, jump) in zip(days, steady.breaks, strict=True)] == case["breaks"]
    assert (steady.changed and (FIRST + timedelta(weeks=steady.changed)).isoformat()) == case["changed"]
