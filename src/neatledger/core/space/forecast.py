"""Where the use of space goes: a growth with an interval, and the day on which a level is met.

A history may grow steadily, in lumps, otherwise than before, or with the year (`steady`, `growths`). Which it does is
told by what each way leaves over and by how far off each would have been on the history itself (`trying`); where
several will do, the interval holds what any of them says.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import date, timedelta
from functools import lru_cache
from statistics import NormalDist

import numpy as np

from neatledger.core.space.growths import (
    Growth,
    Manner,
    Turn,
    find_lumps,
    find_turn,
    find_year,
    number_of_lumps,
    sum_of_squares,
)
from neatledger.core.space.limit_table import LimitStatus
from neatledger.core.space.steady import (
    FEWEST,
    RATE,
    Floats,
    clip,
    find_steady,
    likeness,
    median,
    period_of,
    usual_move,
)
from neatledger.core.space.trying import try_lumps, try_steady, try_turn
from neatledger.core.space.when import YEARS, Meeting, When

__all__ = ["FEWEST", "RATE", "Break", "Outlook", "Trend", "find_trend"]

_QUANTILE = 1.85  # of what single counts are off, and of how far the level strays
_EITHER_END = 1.3  # a level is met by the first count that is far off, not by any one: so much further
_SEVERAL, _LONG = 1.5, 20  # how many equal lumps are more than one, and how many counts are long
_UNEVEN = 4.0  # how many times the growth its interval is, for no date to be given where ways differ


@dataclass(frozen=True, slots=True)
class Break:
    """A sudden change of level: the first count after it, and by how much (bytes)."""

    day: date
    amount: int


@dataclass(frozen=True, slots=True)
class Trend:
    """The growth of one place: bytes a day with an interval, how it grows, the level now, and the breaks found.

    `level` is where the place stands by its trend, `noise` and `wander` as in `Growth`; `amount` is what was counted
    last, on `today`; `stands_out` is by how much it is off the trend, where that is much; `changed` is since when it
    grows otherwise than before, where it does. `manner` is how it grows, `others` how else it may; `ratio` is how
    many times as far off a line, or two that meet, would have been on the history itself as lumps (None: not tried).
    """

    today: date
    amount: int
    level: float
    slope: float
    low: float
    high: float
    noise: float
    wander: float
    breaks: tuple[Break, ...]
    counts: int
    stands_out: int = 0
    changed: date | None = None
    manner: Manner = Manner.STEADY
    others: tuple[Manner, ...] = ()
    ratio: float | None = None

    @property
    def is_uneven(self) -> bool:
        """Tell whether the history is too unlike itself for a date: ways to see it differ by more than it grows."""
        return bool(self.others) and self.slope > 0 and self.high - self.low > _UNEVEN * self.slope

    def expected(self, day: date) -> tuple[float, float, float]:
        """Return the bytes expected on a later day, and the bounds of the interval."""
        days = float((day - self.today).days)
        low, high = self._bounds(np.array([days]), _QUANTILE)
        return max(0.0, self.level + self.slope * days), max(0.0, float(low[0])), max(0.0, float(high[0]))

    def _bounds(self, days: Floats, quantile: float) -> tuple[Floats, Floats]:
        strays = (quantile**2) * (self.noise**2 + self.wander**2 * days)
        middle = self.level + self.slope * days
        low = middle - np.sqrt(((self.slope - self.low) * days) ** 2 + strays)
        return low, middle + np.sqrt(((self.high - self.slope) * days) ** 2 + strays)

    def meets(self, level_bytes: int) -> When:
        """Return when a level is met."""
        if self.amount >= level_bytes:
            return When(Meeting.ALREADY)
        days = np.arange(math.floor(365.25 * YEARS) + 1, dtype=float)
        low, high = self._bounds(days, _QUANTILE * _EITHER_END)
        day = self._first_day(self.level + self.slope * days >= level_bytes)
        earliest, latest = self._first_day(high >= level_bytes), self._first_day(low >= level_bytes)
        if self.is_uneven and earliest is not None:
            return When(Meeting.UNEVEN, None, earliest, latest)
        if day is None:
            # Not expected, and yet perhaps: the interval tells.
            return When(Meeting.NOT_WITHIN, None, earliest, None)
        # The middle may be met by noise alone before the interval's ends are.
        return When(Meeting.ON, day, min(earliest or day, day), latest)

    def _first_day(self, is_met: np.ndarray[tuple[int], np.dtype[np.bool_]]) -> date | None:
        return self.today + timedelta(days=int(np.argmax(is_met))) if is_met.any() else None


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


def find_trend(history: Sequence[tuple[date, int]]) -> Trend | None:
    """Return the trend of a history of days and bytes, None where there are fewer than `FEWEST` counts.

    `history` is sorted by day; of several counts of one day the last stands for it.
    """
    return _trend_of(tuple(dict(history).items()))


@lru_cache(maxsize=4096)
def _trend_of(history: tuple[tuple[date, int], ...]) -> Trend | None:
    # The same history is asked about for what was found, for what was supposed, and by several checks.
    if len(history) < FEWEST:
        return None
    first = history[0][0]
    t = np.array([(day - first).days for day, _ in history], dtype=float)
    y = np.array([used for _, used in history], dtype=float)
    choice = _Choice(t, y)
    mine, others = choice.made()
    ways = [mine, *others]
    steady, (today, amount) = choice.steady, history[-1]
    is_steady = mine.manner is Manner.STEADY
    changed = steady.changed if is_steady else None
    if mine.manner is Manner.TURNED and choice.turn:
        changed = choice.turn.place
    return Trend(
        today=today,
        amount=amount,
        level=mine.level,
        slope=mine.slope,
        low=min(way.low for way in ways),
        high=max(way.high for way in ways),
        noise=max(way.noise for way in ways),
        wander=max(way.wander for way in ways),
        breaks=tuple(Break(history[place][0], round(jump)) for place, jump in steady.breaks) if is_steady else (),
        counts=len(t),
        stands_out=round(steady.stands_out) if is_steady else 0,
        changed=None if changed is None else history[changed][0],
        manner=mine.manner,
        others=tuple(way.manner for way in others),
        ratio=choice.ratio,
    )


class _Choice:
    """Chooses how a history grows, among ways to see it."""

    def __init__(self, t: Floats, y: Floats) -> None:
        self.t, self.y = t, y
        self.steady = find_steady(t, y)
        self.plain = self.steady.without_breaks(y)
        self.ratio: float | None = None
        self.turn: Turn | None = None
        squares = sum_of_squares(self.steady.left, y)
        noise = math.hypot(math.sqrt(squares / len(t)), self.steady.margin / _QUANTILE)
        level = self.steady.level + self.steady.stands_out
        slopes = self.steady.slope, self.steady.low, self.steady.high
        self.line = Growth(Manner.STEADY, *slopes, level, noise)
        # The more may be fitted, the better anything fits (Schwarz 1978).
        self.worth = self._worth(squares, 2 + 2 * len(self.steady.breaks))

    def _worth(self, squares: float, free: int) -> float:
        """Return how badly a way fits for all that it may choose: the less, the better."""
        number = len(self.t)
        return number * math.log(squares / number) + free * math.log(number)

    def made(self) -> tuple[Growth, list[Growth]]:
        """Return the way that is chosen, and those that will do as well."""
        if self._has_period():
            return self.line, []
        trend, others = self._trend()
        lumps = find_lumps(self.t, self.y)
        if number_of_lumps(self.y) < _SEVERAL and len(self.t) >= _LONG:
            # What came once in so long a time is no growth.
            return trend, others
        evidence = self._evidence_of_lumps(trend)
        doubtful = -1.4 - 16 / len(self.t)
        if evidence > 1.0:
            return lumps, []
        if evidence <= doubtful:
            return trend, others
        is_nearer = self.ratio is not None and self.ratio > 1
        return (lumps, [trend, *others]) if is_nearer else (trend, [*others, lumps])

    def _has_period(self) -> bool:
        left = clip(self.steady.left, 4.0)
        return bool(left.any() and period_of(likeness(left), len(left)))

    def _trend(self) -> tuple[Growth, list[Growth]]:
        """Return a line with breaks or two lines that meet, whichever fits, and what fits about as well."""
        number = len(self.t)
        chosen, worth, others = self.line, self.worth, []
        self.turn = find_turn(self.t, self.y)
        if self.turn is not None:
            of_turn = self._worth(sum_of_squares(self.turn.left, self.y), 4)
            needed = 1 + 40 / number
            if of_turn + needed < self.worth:
                chosen, worth = self.turn.growth, of_turn
                others = [self.line] if of_turn + needed + 3 > self.worth else []
            elif of_turn + (1 - 40 / number if number >= 20 else -5) < self.worth:
                others = [self.turn.growth]
        if number >= 16:
            year, left = find_year(self.t, self.y)
            of_year = self._worth(sum_of_squares(left, self.y), 4)
            if of_year < worth + 2 and of_year < self.worth - 2:
                others.append(year)
        return chosen, others

    def _evidence_of_lumps(self, trend: Growth) -> float:
        """Return how much speaks for lumps and against noise about a trend; above zero more does.

        Noise is taken back by the next count: moves follow each other in turn, and some go down. Lumps stay.
        """
        number, turn = len(self.t), self.turn if trend.manner is Manner.TURNED else None
        if turn is not None:
            moves, squares = np.diff(turn.left), sum_of_squares(turn.left, self.y)
            usual = np.diff(self.y) - moves
            # It knows where the turn is, which nobody knew by then.
            ratio = 0.95 * try_turn(self.t, self.y, turn.place) / try_lumps(self.t, self.y)
        else:
            usual, squares = self.steady.slope * np.diff(self.t), sum_of_squares(self.steady.left, self.y)
            moves = np.diff(self.plain) - usual
            ratio = try_steady(self.t, self.plain) / try_lumps(self.t, self.plain)
        self.ratio = ratio
        evidence = (_follows(moves, self.y) + 0.22) * math.sqrt(number) + math.log(ratio) * math.sqrt(number)
        evidence -= _more_falls(np.diff(self.y), usual, math.sqrt(squares / number)) + 1.2
        if turn is None:
            evidence = self._with_breaks(evidence)
        return evidence

    def _with_breaks(self, evidence: float) -> float:
        """Take into account what the breaks themselves say: lumps are many, and clean-ups may come by the clock."""
        jumps = [jump for _, jump in self.steady.breaks]
        if len(jumps) >= 3 and abs(sum(jumps)) > 0.6 * sum(map(abs, jumps)):
            evidence += 1.5
        against = [
            float(self.t[place])
            for place, jump in self.steady.breaks
            if jump * self.steady.slope < 0 and abs(jump) > 0.3 * max(map(abs, jumps))
        ]
        if len(against) >= 2:
            gaps = np.diff(against)
            usual = 1.4 * median(gaps)
            is_regular = gaps.max() < 1.5 * gaps.min()
            if is_regular and against[0] - self.t[0] < usual and self.t[-1] - against[-1] < usual:
                # What comes back by the clock is part of the growth, and no break of it.
                return max(evidence, 9.0)
        return evidence


def _more_falls(moves: Floats, usual: Floats, noise: float) -> float:
    """Return how many more moves go back than noise about the usual ones would make, in standard deviations."""
    chance = np.array([NormalDist().cdf(-abs(each) / (noise * math.sqrt(2))) for each in usual.tolist()])
    back = float(np.sum(moves * np.where(usual < 0, -1, 1) < -0.15 * noise))
    return (back - float(chance.sum())) / math.sqrt(max(float(np.sum(chance * (1 - chance))), 0.3))


def _follows(moves: Floats, y: Floats) -> float:
    """Return how moves follow each other: −½ for noise that is taken back, 0 for lumps, above for what goes on."""
    bound = 3 * usual_move(moves, y)
    cut = np.clip(moves, -bound, bound)
    cut = cut - median(cut)
    whole = float(np.sum(cut**2))
    return float(np.sum(cut[1:] * cut[:-1])) / whole if whole else 0.0
