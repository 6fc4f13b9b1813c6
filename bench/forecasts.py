"""How often the interval of a forecast holds the truth, and how wide it is beside that of a least-squares line.

    python bench/forecasts.py [--trials 200] [--seed 1]

Made histories of which the true growth is known: weeks of counts with noise, seasons, steps, clean-ups, outliers.
"""

from __future__ import annotations

import argparse
import sys
from pathlib import Path

import numpy as np

sys.path.insert(0, str(Path(__file__).parent.parent / "tests"))

from neatledger.core.space.forecast import RATE, find_trend
from test_forecast import SORTS, history, least_squares_width, make

WEEKS = (8, 12, 20, 40, 80)


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__.splitlines()[0])
    parser.add_argument("--trials", type=int, default=200)
    parser.add_argument("--seed", type=int, default=1)
    words = parser.parse_args()
    print(f"Held the truth (wanted: {RATE:.0%}); in brackets the width, least squares being 1.\n")
    print("| history | " + " | ".join(f"{weeks} counts" for weeks in WEEKS) + " |")
    print("|---|" + "---|" * len(WEEKS))
    for sort in SORTS:
        rng = np.random.default_rng(words.seed)
        cells = []
        for weeks in WEEKS:
            held, widths = 0, []
            for _ in range(words.trials):
                slope, y = make(sort, weeks, rng)
                trend = find_trend(history(y))
                assert trend is not None
                held += trend.low <= slope <= trend.high
                widths.append((trend.high - trend.low) / least_squares_width(y))
            cells.append(f"{held / words.trials:.0%} ({np.median(widths):.2f})")
        print(f"| {sort} | " + " | ".join(cells) + " |", flush=True)


if __name__ == "__main__":
    main()
