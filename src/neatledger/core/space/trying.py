"""Try ways to forecast on the past itself, to see how far off each would have been.

From each of some counts (rolling origins) the growth known by then foretells the amount one, two, four and eight
counts on; errors are bytes, those further on divided by the root of how far.
"""

from __future__ import annotations

import math
from collections.abc import Callable

import numpy as np

from neatledger.core.space.growths import lines_that_meet
from neatledger.core.space.steady import Floats, median, rounding, solve

__all__ = ["try_lumps", "try_steady", "try_turn"]

_AHEAD = (1, 2, 4, 8)
_MOST_ORIGINS = 16
_FEWEST_BEFORE = 4
_LATELY = 10  # counts that tell where the level stands

Foretell = Callable[[int], tuple[float, float]]
"""Return level and slope (bytes, bytes a day) as known by a count."""


def _mean_error(t: Floats, y: Floats, foretell: Foretell) -> float:
    number = len(t)
    origins = np.unique(np.linspace(max(_FEWEST_BEFORE, number // 3), number - 2, _MOST_ORIGINS).astype(int))
    errors = []
    for origin in origins.tolist():
        level, slope = foretell(origin)
        for ahead in _AHEAD:
            if origin + ahead < number:
                off = level + slope * (t[origin + ahead] - t[origin]) - y[origin + ahead]
                errors.append(abs(float(off)) / math.sqrt(ahead))
    return float(np.mean(errors)) + rounding(y)


def try_steady(t: Floats, y: Floats) -> float:
    """Return the mean error of a steady growth; breaks are taken off before."""
    slopes = (y - y[:, None]) / np.where(t == t[:, None], np.inf, t - t[:, None])

    def foretell(origin: int) -> tuple[float, float]:
        end = origin + 1
        slope = median(slopes[:end, :end][np.triu_indices(end, 1)])
        recent = slice(max(0, end - _LATELY), end)
        return median(y[recent] - slope * (t[recent] - t[origin])), slope

    return _mean_error(t, y, foretell)


def try_lumps(t: Floats, y: Floats) -> float:
    """Return the mean error of the mean of what came between counts."""
    return _mean_error(t, y, lambda origin: (float(y[origin]), float((y[origin] - y[0]) / (t[origin] - t[0]))))


def try_turn(t: Floats, y: Floats, place: int) -> float:
    """Return the mean error of two lines that meet at a count; one line before there is anything after it."""

    def foretell(origin: int) -> tuple[float, float]:
        end = origin + 1
        columns = lines_that_meet(t[:end], min(place, origin))
        level, slope, *_ = solve(columns if origin >= place + 2 else columns[:, :2], y[:end])[0].tolist()
        return level, slope

    return _mean_error(t, y, foretell)
