"""Where the use of space goes: a robust growth with an interval, and the day on which a level is met.

The growth is the median of the slopes between all pairs of counts (Theil 1950, Sen 1968), taken only within
stretches between *breaks*: a clean-up or an import moves the level and says nothing of the growth. Its
interval comes from the distribution of Kendall's S over the stretches together (Hirsch, Slack and Smith
1982), widened where what is left over follows itself from count to count, as seasons do (Bartlett 1946).
Single counts that stand out weigh no more than others.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import date, timedelta

import numpy as np
from numpy.typing import NDArray

from neatledger.core.space.limit_table import LimitStatus
from neatledger.core.space.quantiles import student_quantile
from neatledger.core.space.when import YEARS, Meeting, When

__all__ = ["FEWEST", "RATE", "Break", "Outlook", "Trend", "find_breaks", "find_trend"]

Floats = NDArray[np.float64]

FEWEST = 8
"""How many counts a forecast needs."""
RATE = 0.9
"""How often the interval is to hold the truth."""
_MAD = 1.4826  # makes the median deviation of normal noise its standard deviation
_NEAR = 6  # counts apart at which slopes say little of breaks
_SIDE = 5  # counts on either side that tell a break from a count that stands out
_JUMP, _SHIFT = 5.0, 4.5  # how many times the usual a break is
_MOST_BREAKS = 8
_WIDEST = 40.0  # the most that an interval's variance is widened
_SAFETY = 1.06  # for what is estimated of the counts themselves
_WANDERS = 0.75  # from when on what is left over is taken for a walk
_DOUBT, _CLEAR = 4.5, 10.0  # how much better a fit with one more break is for it to be thought of, and to be taken


@dataclass(frozen=True, slots=True)
class Break:
    """A sudden change of level: the first count after it, and by how much (bytes)."""

    day: date
    amount: int


@dataclass(frozen=True, slots=True)
class Trend:
    """The growth of one place: bytes a day with an interval, the level now, and the breaks found.

    `level` is where the place stands by its trend, `margin` how far the level may be off (bytes); `amount`
    is what was counted last, on `today`; `stands_out` is by how much it is off the trend, where that is much;
    `changed` is since when it grows otherwise than before, where it does.
    """

    today: date
    amount: int
    level: float
    margin: float
    slope: float
    low: float
    high: float
    breaks: tuple[Break, ...]
    counts: int
    stands_out: int = 0
    changed: date | None = None

    def expected(self, day: date) -> tuple[float, float, float]:
        """Return the bytes expected on a later day, and the bounds of the interval."""
        days = (day - self.today).days
        low = self.level - self.margin + self.low * days
        high = self.level + self.margin + self.high * days
        return max(0.0, self.level + self.slope * days), max(0.0, low), max(0.0, high)

    def meets(self, level_bytes: int) -> When:
        """Return when a level is met."""
        if self.amount >= level_bytes:
            return When(Meeting.ALREADY)
        days = self._days(level_bytes - self.level, self.slope)
        earliest = self._days(level_bytes - self.level - self.margin, self.high)
        latest = self._days(level_bytes - self.level + self.margin, self.low)
        if days is None:
            # Not expected, and yet perhaps: the interval tells.
            return When(Meeting.NOT_WITHIN, None, self._on(earliest), None)
        return When(Meeting.ON, self._on(days), self._on(earliest), self._on(latest))

    def _days(self, missing: float, slope: float) -> int | None:
        if missing <= 0:
            return 0
        if slope <= 0 or missing / slope > 365.25 * YEARS:
            return None
        return int(np.ceil(missing / slope))

    def _on(self, days: int | None) -> date | None:
        return None if days is None else self.today + timedelta(days=days)


@dataclass(frozen=True, slots=True)
class Outlook:
    """One place with its trend, None where there are too few counts, and what it used at each (days and bytes)."""

    status: LimitStatus
    trend: Trend | None
    history: tuple[tuple[date, int], ...]

    @property
    def counts(self) -> int:
        """At how many counts it is known."""
        return len(self.history)


def find_trend(history: Sequence[tuple[date, int]], rate: float = RATE) -> Trend | None:
    """Return the trend of a history of days and bytes, None where there are fewer than `FEWEST` counts.

    `history` is sorted by day; of several counts of one day the last stands for it.
    """
    history = list(dict(history).items())
    if len(history) < FEWEST:
        return None
    first = history[0][0]
    t = np.array([(day - first).days for day, _ in history], dtype=float)
    y = np.array([used for _, used in history], dtype=float)
    places = find_breaks(t, y)
    slope, low, high = _growth(t, y, _stretches(t, places), rate)
    doubtful = _doubtful_break(t, y, places)
    if doubtful is not None:
        clear, strength = doubtful
        with_it = _growth(t, y, _stretches(t, sorted([*places, clear])), rate)
        is_surer = with_it[2] - with_it[1] < high - low
        if strength > _CLEAR and is_surer:
            places = sorted([*places, clear])
            slope, low, high = with_it
        else:
            # It may be one or not: the interval holds what either would say.
            low, high = min(low, with_it[1]), max(high, with_it[2])
    changed = None
    since = _stretches(t, places) == len(places)
    if places and since.sum() >= FEWEST:
        lately = _growth(t[since], y[since], np.zeros(int(since.sum()), dtype=np.intp), rate)
        if lately[1] > high or lately[2] < low:
            # Since the last break it grows otherwise than ever before: what was before says nothing of that.
            slope, low, high = lately
            changed = history[places[-1]][0]
    level, margin = _level(t, y, _stretches(t, places), slope, rate)
    out = _stands_out(t, y, slope, level)
    breaks = []
    for place in places:
        before, after = _sides(y - slope * t, place, _between(places, place, len(t)))
        breaks.append(Break(history[place][0], round(float(np.median(after) - np.median(before)))))
    last, amount = history[-1]
    return Trend(last, amount, level + out, margin, slope, low, high, tuple(breaks), len(t), round(out), changed)


def _stretches(t: Floats, places: Sequence[int]) -> NDArray[np.intp]:
    """Return which stretch between breaks each count lies in."""
    return np.searchsorted(np.array(places, dtype=int), np.arange(len(t)), side="right")


def _level(t: Floats, y: Floats, stretch: NDArray[np.intp], slope: float, rate: float) -> tuple[float, float]:
    """Return where the place stands now by the counts since the last break, and how far that may be off."""
    recent = np.flatnonzero(stretch == stretch[-1])[-_SIDE * 2 :]
    level = float(np.median(y[recent] - slope * (t[recent] - t[-1])))
    quantile = student_quantile(max(len(t) - 2, 1), (1 + rate) / 2)
    return level, float(quantile * 1.25 * _spread(_left_over(t, y, stretch, slope)) / np.sqrt(len(recent)))


def _stands_out(t: Floats, y: Floats, slope: float, level: float) -> float:
    """Return by how much the last count stands out: whether it stays so, the next will tell. 0 where not."""
    out = float(y[-1] - level)
    return out if abs(out) > _JUMP * _usual(np.diff(y - slope * t), y) else 0.0


def _usual(jumps: Floats, y: Floats) -> float:
    """Return how much the level usually moves from count to count; never so little that rounding stands out.

    Where most counts show no change at all, as with work that comes in parcels, the parcels are what is usual.
    """
    low, high = np.quantile(jumps, [0.15, 0.85])
    parcels = 0.7 * float(high - low) / 2.07
    return max(
        _spread(jumps), parcels, float(np.median(np.abs(np.diff(y)))) * 0.05, float(np.abs(y).max()) * 1e-6, 1.0
    )


def _spread(values: Floats) -> float:
    """Return a robust standard deviation."""
    return float(_MAD * np.median(np.abs(values - np.median(values)))) if len(values) else 0.0


def _sides(z: Floats, place: int, bounds: tuple[int, int] | None = None) -> tuple[Floats, Floats]:
    first, end = bounds or (0, len(z))
    return z[max(first, place - _SIDE) : place], z[place : min(end, place + _SIDE)]


def find_breaks(t: Floats, y: Floats) -> list[int]:
    """Return the places at which the level suddenly changed: each the first count after, in order.

    `t` are days, `y` bytes. A count that stands out alone is no break: after it things are as before.
    """
    lag, ahead = np.triu_indices(len(t), 1)
    near = ahead - lag <= _NEAR
    slope = float(np.median((y[ahead] - y[lag])[near] / (t[ahead] - t[lag])[near]))
    z = y - slope * t
    usual = _usual(np.diff(z), y)
    found: list[int] = []
    while len(found) < _MOST_BREAKS:
        place = _strongest(z, usual, found)
        if place is None:
            break
        before, after = _sides(z, place, _between(found, place, len(z)))
        # Put back to one level, so that the next can be seen.
        z = z.copy()
        z[place:] -= np.median(after) - np.median(before)
        found = sorted([*found, place])
    return found


def _between(found: Sequence[int], place: int, rows: int) -> tuple[int, int]:
    """Return the bounds of the stretch that a place lies in."""
    return max([0, *(each for each in found if each < place)]), min([rows, *(each for each in found if each > place)])


def _strongest(z: Floats, usual: float, found: Sequence[int]) -> int | None:
    """Return the place of the clearest break that is left."""
    jumps = np.diff(z)
    shifts = np.zeros(len(z))
    for place in range(2, len(z) - 1):
        before, after = _sides(z, place)
        shifts[place] = np.median(after) - np.median(before)
    # Of white noise the medians of two sides differ by four fifths of its deviation, and that is a jump's over √2.
    shift_usual = max(_spread(shifts[2:-1]), 0.56 * usual)
    best: tuple[float, int] | None = None
    for place in range(2, len(z) - 1):
        if any(abs(place - other) < 2 for other in found):
            continue
        shift, jump = shifts[place], jumps[place - 1]
        jumped = abs(jump) > _JUMP * usual and shift * jump > 0 and abs(shift) > 0.5 * abs(jump)
        shifted = abs(shift) > _SHIFT * shift_usual and shift * jump > 0 and abs(jump) > 0.5 * abs(shift)
        strength = max(abs(jump) / usual if jumped else 0.0, abs(shift) / shift_usual if shifted else 0.0)
        if strength and (best is None or strength > best[0]):
            best = strength, place
    return best[1] if best else None


def _doubtful_break(t: Floats, y: Floats, places: Sequence[int]) -> tuple[int, float] | None:
    """Return the best place for one more break and how much better all fits with it (an F of one degree).

    Counts that stand out are cut to what is usual first; what follows itself from count to count fits
    anything better, which is taken into account.
    """
    stretch = _stretches(t, places)
    slope = _growth(t, y, stretch, RATE)[0]
    left = _left_over(t, y, stretch, slope)
    bound = 3 * _spread(left)
    if not bound:
        return None
    cut = np.clip(left, -bound, bound)
    base = [(stretch == number).astype(float) for number in np.unique(stretch)]
    free = len(t) - len(base) - 2
    if free < 4:
        return None
    whole = _fit(np.column_stack([t, *base]), cut)
    best: tuple[float, int, Floats] | None = None
    for place in range(3, len(t) - 2):
        if any(abs(place - other) < 3 for other in places):
            continue
        step = ((np.arange(len(t)) >= place) & (stretch == stretch[place])).astype(float)
        rest = _fit(np.column_stack([t, *base, step]), cut)
        squares = float(np.sum(rest**2))
        if best is None or squares < best[0]:
            best = squares, place, rest
    if best is None or not best[0]:
        return None
    strength = (float(np.sum(whole**2)) - best[0]) / (best[0] / free)
    strength /= _widening(best[2], _stretches(t, sorted([*places, best[1]])))[0]
    return (best[1], strength) if strength > _DOUBT else None


def _fit(columns: Floats, values: Floats) -> Floats:
    """Return what a least-squares fit leaves over."""
    found: Floats = values - columns @ np.linalg.lstsq(columns, values, rcond=None)[0]
    return found


def _left_over(t: Floats, y: Floats, stretch: NDArray[np.intp], slope: float) -> Floats:
    left = y - slope * t
    for number in np.unique(stretch):
        left[stretch == number] -= np.median(left[stretch == number])
    return left


def _growth(t: Floats, y: Floats, stretch: NDArray[np.intp], rate: float) -> tuple[float, float, float]:
    """Return the median slope of pairs within stretches, and its interval (bytes a day)."""
    some, later = np.triu_indices(len(t), 1)
    within = stretch[some] == stretch[later]
    slopes = np.sort((y[later] - y[some])[within] / (t[later] - t[some])[within])
    slope = float(np.median(slopes))
    sizes = np.bincount(stretch).astype(float)
    variance = float(np.sum(sizes * (sizes - 1) * (2 * sizes + 5)) / 18)
    pairs = len(slopes)
    # Each stretch has a level of its own to be found: so much less is known of the growth.
    free = max(len(t) - len(np.unique(stretch)) - 1, 1)
    reach = student_quantile(free, (1 + rate) / 2) * np.sqrt(variance)
    ends = np.interp([(pairs - reach) / 2 - 1, (pairs + reach) / 2], np.arange(pairs), slopes)
    left = _left_over(t, y, stretch, slope)
    widening, follows = _widening(left, stretch)
    # Counts that follow each other are worth fewer, and what is known of how they do so is little then.
    worth = max(len(t) / widening - len(np.unique(stretch)) - 1, 2.0)
    quantile = student_quantile(worth, (1 + rate) / 2)
    wider = _SAFETY * np.sqrt(widening) * quantile / student_quantile(free, (1 + rate) / 2)
    under, over = (slope - float(ends[0])) * wider, (float(ends[1]) - slope) * wider
    if follows > _WANDERS:
        # What wanders as it grows is known by its single steps alone: the growth is as sure as their mean.
        steps = np.diff(left)[stretch[1:] == stretch[:-1]]
        wanders = 1.1 * quantile * _spread(steps) * np.sqrt(len(t) - 1) / float(t[-1] - t[0])
        under, over = max(under, wanders), max(over, wanders)
    return slope, slope - under, slope + over


def _widening(left: Floats, stretch: NDArray[np.intp]) -> tuple[float, float]:
    """Return how much wider the variance is since what is left over follows itself from count to count.

    With it how closely each follows the one before, 0 where it comes back as seasons do.
    """
    bound = 3 * _spread(left)
    cut = np.clip(left, -bound, bound) if bound else left
    same = stretch[1:] == stretch[:-1]
    total = float(np.sum(cut**2))
    number = len(left)
    if not total or same.sum() < 4:
        return 1.0, 0.0
    alike = [float(np.sum(cut[lag:] * cut[:-lag])) / total for lag in range(1, number // 2)]
    period = _period(alike, number)
    if period:
        # Seasons come back: over whole ones they cancel, and the sum over one says what is left.
        weights = 1 - np.arange(1, period + 1) / (period + 1)
        return max(1.0, 1 + 2 * float(np.sum(weights * np.array(alike[:period])))), 0.0
    follows = float(np.sum((cut[1:] * cut[:-1])[same])) / total * number / (same.sum() + 1)
    # Taking the line and the levels off makes it look less than it is (Kendall 1954).
    follows = (number * follows + 2) / max(number - 4, 4)
    follows = min(max(follows, 0.0), 0.95)
    return min((1 + follows) / (1 - follows), _WIDEST), follows


def _period(alike: Sequence[float], number: int) -> int:
    """Return after how many counts what is left over comes back, 0 where not about three times over."""
    for lag in range(2, min(round(0.36 * number) + 1, len(alike))):
        here = alike[lag - 1]
        is_top = here >= alike[lag - 2] and here >= alike[lag]
        if is_top and here > 0.5 * (1 - lag / number) and min(alike[: lag - 1]) < -0.3:
            return lag
    return 0
