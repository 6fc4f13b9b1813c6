"""Other growths than a steady one: in lumps, with a turn, with the year; each with an interval of its own.

A growth *in lumps* is a sum of what came between counts, whatever its sizes: its mean is as sure as the sum of so
many equal events would be (the interval for a Poisson mean, Garwood 1936; for sums that also fall, that of Student
with the correction for skewness of Johnson 1978). A growth *with a turn* is two lines that meet (Hudson 1966): the
interval holds every place of the turn that the counts do not rule out. A growth *with the year* is a line and one
wave a year.
"""

from __future__ import annotations

import math
from dataclasses import dataclass
from enum import Enum
from statistics import NormalDist

import numpy as np

from neatledger.core.space.quantiles import student_quantile
from neatledger.core.space.steady import RATE, Floats, clip, rounding, solve, squares_with_each

__all__ = [
    "Growth",
    "Manner",
    "Turn",
    "find_lumps",
    "find_turn",
    "find_year",
    "lines_that_meet",
    "number_of_lumps",
    "sum_of_squares",
]

_UP = (1 + RATE) / 2
_ONE_SIDED = NormalDist().inv_cdf(_UP)
_FEW = 15.0  # the variance of lumps is taken for 1 + so much ÷ counts times what is seen: the largest are rarely seen
_SKEWED = 0.25  # and for so much more where few lumps make most of the growth
_SPARE = 1.1  # for what is estimated of the noise beside a wave
_FIRST, _LAST = 3, 4  # counts before and after a turn, at least
_PLAUSIBLE, _PLAUSIBLE_FEW = 4.0, 20.0  # what a turn elsewhere may fit worse and still be thought of
_YEAR_DAYS = 365.25


class Manner(Enum):
    """How a place grows."""

    STEADY = "steadily"
    LUMPS = "in lumps"
    TURNED = "otherwise than before"
    YEARLY = "with the seasons of the year"


@dataclass(frozen=True, slots=True)
class Growth:
    """One way to see a growth: bytes a day with an interval, and the level at the last count (bytes).

    `noise` is how far single counts are off, `wander` how far the level strays in a day (bytes; of n days √n times
    that), both as standard deviations.
    """

    manner: Manner
    slope: float
    low: float
    high: float
    level: float
    noise: float = 0.0
    wander: float = 0.0


@dataclass(frozen=True, slots=True)
class Turn:
    """The best place for a turn (the first count after it), the growth since, and what two lines leave over."""

    place: int
    growth: Growth
    left: Floats


def sum_of_squares(left: Floats, y: Floats) -> float:
    """Return the squares of what is left over, single counts cut to the usual; never nothing at all."""
    return float(np.sum(clip(left, 4.0) ** 2)) + len(left) * rounding(y) ** 2


def find_lumps(t: Floats, y: Floats) -> Growth:
    """Return the mean of what came between counts, as a growth."""
    came, days = np.diff(y), np.diff(t)
    number, whole = len(came), float(days.sum())
    slope = float(came.sum()) / whole
    apart = (came - slope * days) / np.sqrt(days)
    variance = float(np.sum(apart**2)) / (number - 1)
    lags = range(1, max(1, math.isqrt(number)) + 1)
    alike = [float(np.sum(apart[lag:] * apart[:-lag])) / (number - 1) for lag in lags]
    follows = 2 * sum((1 - lag / (len(lags) + 1)) * each for lag, each in zip(lags, alike, strict=True))
    skewness = float(np.mean(apart**3)) / max(float(np.mean(apart**2)), 1e-9) ** 1.5
    few = (1 + _FEW / number) * (1 + _SKEWED * max(skewness - 1, 0.0))
    error = math.sqrt(max(variance + follows, variance) / whole)
    quantile = student_quantile(max(number - 1, 2), _UP)
    low = high = slope
    if error and slope > 0 and came.min() > -0.1 * np.abs(came).max():
        # So many equal lumps would be as sure as these are.
        lumps = min((slope / error * _ONE_SIDED / quantile) ** 2 / few, 1e6)
        low = slope * _chi_square(2 * lumps, 1 - _UP) / (2 * lumps)
        high = slope * _chi_square(2 * lumps + 2, _UP) / (2 * lumps)
    elif error:
        shift = skewness / (6 * math.sqrt(number)) * (1 + 2 * quantile**2)
        reach = error * math.sqrt(few)
        low = slope - reach * max(quantile - shift, 0.6 * quantile)
        high = slope + reach * max(quantile + shift, 0.6 * quantile)
    return Growth(Manner.LUMPS, slope, low, high, float(y[-1]), wander=math.sqrt(variance * few))


def number_of_lumps(y: Floats) -> float:
    """Return how many equal lumps what came and went between counts is like."""
    came = np.diff(y)
    return float(np.abs(came).sum() ** 2 / max(float(np.sum(came**2)), 1e-9))


def _chi_square(freedom: float, probability: float) -> float:
    """Return a quantile of the chi-square distribution (Wilson and Hilferty 1931)."""
    spread = 2 / (9 * freedom)
    return max(0.0, freedom * (1 - spread + NormalDist().inv_cdf(probability) * math.sqrt(spread)) ** 3)


def find_turn(t: Floats, y: Floats) -> Turn | None:
    """Return the best turn of a history, None where there are too few counts for one."""
    number = len(t)
    places = np.arange(_FIRST, number - _LAST)
    if not len(places):
        return None
    line = lines_that_meet(t, 0)[:, :2]
    squares = squares_with_each(line, np.maximum(t[places] - t[:, None], 0), y)
    least, free = float(squares.min()), number - 4
    best = int(places[np.argmin(squares)])
    bound = least * (1 + (_PLAUSIBLE + _PLAUSIBLE_FEW / number) / free)
    ends = [_since(t, y, int(place)) for place in places[squares <= bound]]
    low, high = min(low for low, _ in ends), max(high for _, high in ends)
    (level, slope, _), left = solve(lines_that_meet(t, best), y)
    growth = Growth(Manner.TURNED, float(slope), low, high, float(level), noise=math.sqrt(least / free))
    return Turn(best, growth, left)


def lines_that_meet(t: Floats, place: int) -> Floats:
    """Return the columns of a fit by two lines that meet at a count: level and slope at the end, and the bend."""
    return np.column_stack([np.ones(len(t)), t - t[-1], np.maximum(t[place] - t, 0)])


def _since(t: Floats, y: Floats, place: int) -> tuple[float, float]:
    """Return the bounds of the growth since a turn, were it there."""
    number, free = len(t), len(t) - 4
    columns = lines_that_meet(t, place)
    found, left = solve(columns, y)
    slope = float(found[1])
    squares = float(np.sum(left**2))
    # The noise after the turn may be less than before, but is known by few counts.
    since = float(np.sum(left[place:] ** 2)) / max(number - place - 2, 1) / 2
    follows = float(np.sum(left[1:] * left[:-1])) / max(squares, 1e-9) + 2 / number
    follows = min(max(follows, 0.0), 0.9)
    variance = max(squares / free, since) * float(np.linalg.inv(columns.T @ columns)[1, 1])
    reach = student_quantile(max(free, 2), _UP) * math.sqrt(variance * (1 + follows) / (1 - follows))
    return slope - reach, slope + reach


def find_year(t: Floats, y: Floats) -> tuple[Growth, Floats]:
    """Return a growth beside one wave a year, and what both leave over."""
    number, phase = len(t), 2 * np.pi * t / _YEAR_DAYS
    columns = np.column_stack([np.ones(number), t - t[-1], np.sin(phase), np.cos(phase)])
    found, left = solve(columns, y)
    variance = sum_of_squares(left, y) / (number - 4)
    reach = math.sqrt(variance * float(np.linalg.inv(columns.T @ columns)[1, 1])) * _SPARE
    reach *= student_quantile(number - 4, _UP)
    # The wave itself is as far as its height off the line; seen in part, it may be drawn much too high.
    height = min(math.hypot(float(found[2]), float(found[3])), 3 * float(np.ptp(y)))
    slope = float(found[1])
    noise = math.sqrt(variance) + 0.6 * height
    return Growth(Manner.YEARLY, slope, slope - reach, slope + reach, float(y[-1] - left[-1]), noise=noise), left
