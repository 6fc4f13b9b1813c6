"""How often the interval of a forecast holds the truth, by kind of history and number of counts.

    python bench/forecasts.py [--trials 100] [--seed 1]
    python bench/forecasts.py --vectors tests/vectors/trends.json

Made histories whose true growth from now on is known, and what comes after them too. For each: how often the interval
of the growth held it, how often the amount a quarter of a year on lay where it was expected, how often a level was
met between the days that were told; and the width of the growth's interval, that of a least-squares line being 1.
Beside it how often the intervals of that line and of the library's Theil and Sen (scipy.stats) held the growth.

With `--vectors` it writes one history of each kind and length with the trend found in it: the tests hold the code to
that of which these figures are true. Write them anew only after the figures were looked at.
"""

from __future__ import annotations

import argparse
import json
import sys
from datetime import timedelta
from pathlib import Path

import numpy as np
from scipy.special import stdtrit
from scipy.stats import linregress, theilslopes

sys.path.insert(0, str(Path(__file__).parent.parent / "tests"))

from neatledger.core.space.forecast import RATE, Trend, find_trend
from neatledger.core.space.when import Meeting
from test_forecast import SORTS, UNLIKE, facts_of, history, least_squares_width, make

WEEKS = (10, 20, 40, 80)


def is_met_in_time(trend: Trend, y: np.ndarray, comes: np.ndarray) -> bool | None:
    """Tell whether a level that is met within a quarter was foretold for then, None where none is met."""
    level = y[-1] + 0.9 * (comes[:13].max() - y[-1])
    if level < y[-1] * 1.0005:
        return None
    day = trend.today + timedelta(weeks=int(np.argmax(comes >= level)) + 1)
    when = trend.meets(int(level))
    if when.meeting is Meeting.ALREADY:
        return True
    # It was met some day of the week before it was counted.
    return (
        when.earliest is not None
        and when.earliest <= day
        and (when.latest is None or when.latest >= day - timedelta(days=7))
    )


def others_hold(slope: float, y: np.ndarray) -> tuple[bool, bool]:
    """Tell whether the intervals of a least-squares line and of the library's Theil and Sen hold the growth."""
    t = np.arange(len(y)) * 7.0
    line = linregress(t, y)
    reach = stdtrit(len(y) - 2, (1 + RATE) / 2) * line.stderr
    _, _, low, high = theilslopes(y, t, RATE)
    return abs(line.slope - slope) <= reach, low <= slope <= high


VECTOR_WEEKS = (4, 6, 9, 10, 13, 16, 19, 20, 31, 40, 52, 79, 80)


def write_vectors(path: Path) -> None:
    """Write a history of each kind and length (kB a week) with its trend."""
    cases = []
    for number, sort in enumerate(SORTS + UNLIKE):
        for weeks in VECTOR_WEEKS:
            _, y, _ = make(sort, weeks, np.random.default_rng([number, weeks]))
            amounts = [round(float(one) / 1000) for one in y]
            trend = find_trend(history([1000 * one for one in amounts]))
            cases.append({"sort": sort, "kB": amounts, "trend": None if trend is None else facts_of(trend)})
    path.write_text("[\n" + ",\n".join(json.dumps(one) for one in cases) + "\n]\n")


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__.splitlines()[0])
    parser.add_argument("--trials", type=int, default=100)
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--vectors", type=Path)
    words = parser.parse_args()
    if words.vectors is not None:
        write_vectors(words.vectors)
        return
    print(f"Percent held (wanted: {RATE:.0%}): growth · amount · day (width); [least squares · library]\n")
    print("| history | " + " | ".join(f"{weeks} counts" for weeks in WEEKS) + " |")
    print("|---|" + "---|" * len(WEEKS))
    for sort in SORTS + UNLIKE:
        rng = np.random.default_rng(words.seed)
        cells = []
        for weeks in WEEKS:
            held: dict[str, list[bool]] = {name: [] for name in ("growth", "amount", "day", "line", "library")}
            widths = []
            for _ in range(words.trials):
                slope, y, comes = make(sort, weeks, rng)
                trend = find_trend(history(y))
                assert trend is not None
                held["growth"].append(trend.low <= slope <= trend.high)
                low, high = trend.expected(trend.today + timedelta(weeks=13))[1:]
                held["amount"].append(low <= comes[12] <= high)
                in_time = is_met_in_time(trend, y, comes)
                held["day"] += [] if in_time is None else [in_time]
                for name, is_held in zip(("line", "library"), others_hold(slope, y), strict=True):
                    held[name].append(is_held)
                widths.append((trend.high - trend.low) / least_squares_width(y))
            share = {name: f"{100 * np.mean(each):.0f}" if each else "-" for name, each in held.items()}
            ours = " · ".join(share[name] for name in ("growth", "amount", "day"))
            cells.append(f"{ours} ({np.median(widths):.2f}) [{share['line']} · {share['library']}]")
        print(f"| {sort} | " + " | ".join(cells) + " |", flush=True)


if __name__ == "__main__":
    main()
