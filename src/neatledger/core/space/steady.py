"""Steady growth: what is left when single counts that stand out and sudden changes of level are taken off.

The growth is the median of the slopes between all pairs of counts (Theil 1950, Sen 1968), taken only within
stretches between *breaks*: a clean-up or an import moves the level and says nothing of the growth. Its
interval comes from the distribution of Kendall's S over the stretches together (Hirsch, Slack and Smith
1982), widened where what is left over follows itself from count to count, as seasons do (Bartlett 1946).
Single counts that stand out weigh no more than others.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from neatledger.core.space.quantiles import student_quantile

__all__ = [
    "FEWEST",
    "RATE",
    "Floats",
    "Steady",
    "clip",
    "find_breaks",
    "find_steady",
    "likeness",
    "median",
    "period_of",
    "rounding",
    "solve",
    "squares_with_each",
    "usual_move",
]

Floats = NDArray[np.float64]

FEWEST = 8
"""How many counts a forecast needs."""
RATE = 0.9
"""How often the interval is to hold the truth."""
_UP = (1 + RATE) / 2
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
class Steady:
    """A steady growth: bytes a day with an interval, the level at the last count and how far that may be off.

    `breaks` are the sudden changes that were taken off, `left` what each count is off the line and its level;
    `stands_out` is by how much the last one is, where that is much; `changed` is the count since which it grows
    otherwise than before, where it does.
    """

    slope: float
    low: float
    high: float
    level: float
    margin: float
    breaks: tuple[tuple[int, float], ...]
    left: Floats
    stands_out: float
    changed: int | None

    def without_breaks(self, y: Floats) -> Floats:
        """Return a history with its breaks taken off."""
        found = y.copy()
        for place, amount in self.breaks:
            found[place:] -= amount
        return found


def find_steady(t: Floats, y: Floats) -> Steady:
    """Return the steady growth of a history: days and bytes, `FEWEST` or more of each."""
    places = find_breaks(t, y)
    slope, low, high = _growth(t, y, _stretches(t, places))
    doubtful = _doubtful_break(t, y, places)
    if doubtful is not None:
        clear, strength = doubtful
        with_it = _growth(t, y, _stretches(t, sorted([*places, clear])))
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
        lately = _growth(t[since], y[since], np.zeros(int(since.sum()), dtype=np.intp))
        if lately[1] > high or lately[2] < low:
            # Since the last break it grows otherwise than ever before: what was before says nothing of that.
            slope, low, high = lately
            changed = places[-1]
    level, margin = _level(t, y, _stretches(t, places), slope)
    out = _stands_out(t, y, slope, level)
    breaks = []
    for place in places:
        before, after = _sides(y - slope * t, place, _between(places, place, len(t)))
        breaks.append((place, median(after) - median(before)))
    left = _left_over(t, y, _stretches(t, places), slope)
    return Steady(slope, low, high, level, margin, tuple(breaks), left, out, changed)


def median(values: Floats) -> float:
    """Return the median; of few values much sooner than NumPy does, and here it is asked thousands of times."""
    ordered = np.sort(values)
    middle = len(ordered) // 2
    return float(ordered[middle]) if len(ordered) % 2 else float(ordered[middle - 1] + ordered[middle]) / 2


def _stretches(t: Floats, places: Sequence[int]) -> NDArray[np.intp]:
    """Return which stretch between breaks each count lies in."""
    return np.searchsorted(np.array(places, dtype=int), np.arange(len(t)), side="right")


def _level(t: Floats, y: Floats, stretch: NDArray[np.intp], slope: float) -> tuple[float, float]:
    """Return where the place stands now by the counts since the last break, and how far that may be off."""
    recent = np.flatnonzero(stretch == stretch[-1])[-_SIDE * 2 :]
    level = median(y[recent] - slope * (t[recent] - t[-1]))
    quantile = student_quantile(max(len(t) - 2, 1), _UP)
    return level, float(quantile * 1.25 * _spread(_left_over(t, y, stretch, slope)) / np.sqrt(len(recent)))


def _stands_out(t: Floats, y: Floats, slope: float, level: float) -> float:
    """Return by how much the last count stands out: whether it stays so, the next will tell. 0 where not."""
    out = float(y[-1] - level)
    return out if abs(out) > _JUMP * usual_move(np.diff(y - slope * t), y) else 0.0


def usual_move(jumps: Floats, y: Floats) -> float:
    """Return how much the level usually moves from count to count; never so little that rounding stands out.

    Where most counts show no change at all, as with work that comes in parcels, the parcels are what is usual.
    """
    low, high = np.quantile(jumps, [0.15, 0.85])
    parcels = 0.7 * float(high - low) / 2.07
    return max(_spread(jumps), parcels, median(np.abs(np.diff(y))) * 0.05, rounding(y))


def rounding(y: Floats) -> float:
    """Return what is taken for nothing beside the amounts of a history (bytes)."""
    return max(1.0, float(np.abs(y).max()) * 1e-6)


def _spread(values: Floats) -> float:
    """Return a robust standard deviation."""
    return float(_MAD * median(np.abs(values - median(values)))) if len(values) else 0.0


def clip(values: Floats, times: float = 3.0) -> Floats:
    """Return values cut to so many times what they usually are; as they are where most are nothing."""
    bound = times * _spread(values)
    return np.clip(values, -bound, bound) if bound else values


def _sides(z: Floats, place: int, bounds: tuple[int, int] | None = None) -> tuple[Floats, Floats]:
    first, end = bounds or (0, len(z))
    return z[max(first, place - _SIDE) : place], z[place : min(end, place + _SIDE)]


def find_breaks(t: Floats, y: Floats) -> list[int]:
    """Return the places at which the level suddenly changed: each the first count after, in order.

    `t` are days, `y` bytes. A count that stands out alone is no break: after it things are as before.
    """
    lag, ahead = np.triu_indices(len(t), 1)
    near = ahead - lag <= _NEAR
    slope = median((y[ahead] - y[lag])[near] / (t[ahead] - t[lag])[near])
    z = y - slope * t
    usual = usual_move(np.diff(z), y)
    found: list[int] = []
    while len(found) < _MOST_BREAKS:
        place = _strongest(z, usual, found)
        if place is None:
            break
        before, after = _sides(z, place, _between(found, place, len(z)))
        # Put back to one level, so that the next can be seen.
        z = z.copy()
        z[place:] -= median(after) - median(before)
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
        shifts[place] = median(after) - median(before)
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
    slope = _growth(t, y, stretch)[0]
    left = _left_over(t, y, stretch, slope)
    cut = clip(left)
    if not cut.any():
        return None
    base = [(stretch == number).astype(float) for number in np.unique(stretch)]
    free = len(t) - len(base) - 2
    if free < 4:
        return None
    tried = [place for place in range(3, len(t) - 2) if all(abs(place - other) >= 3 for other in places)]
    if not tried:
        return None
    columns = np.column_stack([t, *base])
    rows = np.arange(len(t))[:, None]
    steps = ((rows >= np.array(tried)) & (stretch[:, None] == stretch[tried])).astype(float)
    squares = squares_with_each(columns, steps, cut)
    place = tried[int(np.argmin(squares))]
    least = float(squares.min())
    if least <= 0:
        return None
    rest = solve(np.column_stack([columns, steps[:, tried.index(place)]]), cut)[1]
    strength = (float(np.sum(solve(columns, cut)[1] ** 2)) - least) / (least / free)
    strength /= _widening(rest, _stretches(t, sorted([*places, place])))[0]
    return (place, strength) if strength > _DOUBT else None


def squares_with_each(columns: Floats, more: Floats, values: Floats) -> Floats:
    """Return the squares that a least-squares fit by `columns` and one of `more` leaves over, for each of these.

    What `columns` explain is taken off both first: the rest is one division each (Frisch and Waugh 1933).
    """
    base = np.linalg.qr(columns)[0]
    left, apart = values - base @ (base.T @ values), more - base @ (base.T @ more)
    own = np.sum(apart**2, axis=0)
    found: Floats = np.sum(left**2) - (left @ apart) ** 2 / np.where(own > 0, own, np.inf)
    return np.maximum(found, 0.0)


def solve(columns: Floats, values: Floats) -> tuple[Floats, Floats]:
    """Return the factors of a least-squares fit, and what it leaves over."""
    factors = np.linalg.lstsq(columns, values, rcond=None)[0].astype(np.float64)
    return factors, values - columns @ factors


def _left_over(t: Floats, y: Floats, stretch: NDArray[np.intp], slope: float) -> Floats:
    left = y - slope * t
    for number in np.unique(stretch):
        left[stretch == number] -= median(left[stretch == number])
    return left


def _growth(t: Floats, y: Floats, stretch: NDArray[np.intp]) -> tuple[float, float, float]:
    """Return the median slope of pairs within stretches, and its interval (bytes a day)."""
    some, later = np.triu_indices(len(t), 1)
    within = stretch[some] == stretch[later]
    slopes = np.sort((y[later] - y[some])[within] / (t[later] - t[some])[within])
    slope = median(slopes)
    sizes = np.bincount(stretch).astype(float)
    variance = float(np.sum(sizes * (sizes - 1) * (2 * sizes + 5)) / 18)
    pairs = len(slopes)
    # Each stretch has a level of its own to be found: so much less is known of the growth.
    free = max(len(t) - len(np.unique(stretch)) - 1, 1)
    reach = student_quantile(free, _UP) * np.sqrt(variance)
    ends = np.interp([(pairs - reach) / 2 - 1, (pairs + reach) / 2], np.arange(pairs), slopes)
    left = _left_over(t, y, stretch, slope)
    widening, follows = _widening(left, stretch)
    # Counts that follow each other are worth fewer, and what is known of how they do so is little then.
    worth = max(len(t) / widening - len(np.unique(stretch)) - 1, 2.0)
    quantile = student_quantile(worth, _UP)
    wider = _SAFETY * np.sqrt(widening) * quantile / student_quantile(free, _UP)
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
    cut = clip(left)
    same = stretch[1:] == stretch[:-1]
    total = float(np.sum(cut**2))
    number = len(left)
    if not total or same.sum() < 4:
        return 1.0, 0.0
    alike = likeness(cut)
    period = period_of(alike, number)
    if period:
        # Seasons come back: over whole ones they cancel, and the sum over one says what is left.
        weights = 1 - np.arange(1, period + 1) / (period + 1)
        return max(1.0, 1 + 2 * float(np.sum(weights * np.array(alike[:period])))), 0.0
    follows = float(np.sum((cut[1:] * cut[:-1])[same])) / total * number / (same.sum() + 1)
    # Taking the line and the levels off makes it look less than it is (Kendall 1954).
    follows = (number * follows + 2) / max(number - 4, 4)
    follows = min(max(follows, 0.0), 0.95)
    return min((1 + follows) / (1 - follows), _WIDEST), follows


def likeness(left: Floats) -> list[float]:
    """Return how much what is left over is like itself so many counts later, from one on; not all of it nothing."""
    whole = float(np.sum(left**2))
    return [float(np.sum(left[lag:] * left[:-lag])) / whole for lag in range(1, len(left) // 2)]


def period_of(alike: Sequence[float], number: int) -> int:
    """Return after how many counts what is left over comes back, 0 where not about three times over."""
    for lag in range(2, min(round(0.36 * number) + 1, len(alike))):
        here = alike[lag - 1]
        is_top = here >= alike[lag - 2] and here >= alike[lag]
        if is_top and here > 0.5 * (1 - lag / number) and min(alike[: lag - 1]) < -0.3:
            return lag
    return 0
