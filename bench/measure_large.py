"""Measure how time and memory grow with the tree: curves, not points.

    python bench/measure_large.py [--folders 100000,1000000,10000000] [--people 1000]

Ledgers of so many folders and people (`make_ledger.py`; kept below --dir for the next run), and of each the daily
questions as whole processes with their output thrown away: seconds, peak MB, and microseconds a folder.
"""

from __future__ import annotations

import argparse
import subprocess
import sys
import time
from datetime import date, timedelta
from pathlib import Path

from measure import COMMAND, timed

QUESTIONS = (
    ("who", ["who", "big:/"]),
    ("space", ["space"]),
    ("check", ["check"]),
    ("access", ["reach", "--format", "csv"]),
)


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--folders", default="100000,1000000,10000000")
    parser.add_argument("--people", type=int, default=1000)
    parser.add_argument("--dir", type=Path, default=Path("/var/tmp/neatledger-bench"))
    parser.add_argument("--only", default="")
    words = parser.parse_args()
    print("| folders | what | seconds | MB | µs a folder |\n|---|---|---|---|---|", flush=True)
    for folders in map(int, words.folders.split(",")):
        office = words.dir / f"large-{folders}-{words.people}"
        if not (office / "ledger.db").exists():
            make = [sys.executable, str(Path(__file__).with_name("make_ledger.py")), str(office)]
            subprocess.run(
                [*make, "--folders", str(folders), "--people", str(words.people)], check=True, stdout=sys.stderr
            )
        for name, asked in QUESTIONS:
            if words.only and name not in words.only.split(","):
                continue
            # What checks find is kept for its day: one on which nobody looked yet.
            day = date(2030, 1, 1) + timedelta(days=int(time.time()) % 20_000)
            more = ["--today", day.isoformat()] if name == "check" else []
            seconds, peak = timed([COMMAND, *asked, *more, "--office", str(office)])
            each = seconds * 1e6 / folders
            print(f"| {folders:,} | {name} | {seconds:.2f} | {peak:,.0f} | {each:.2f} |", flush=True)


if __name__ == "__main__":
    main()
