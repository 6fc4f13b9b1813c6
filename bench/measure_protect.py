"""Measure what would come back, on many folders.

    python bench/measure_protect.py [--folders 1000000] [--runs 3]

300 people in 150 groups; a listing of so many folders with a file in each, one in fifty with a list of its own; two
backups with two hundred runs each, whose copies lie in the tree too, and thirty places of which something is wanted.
Everything is made in a temporary folder, and goes with it.
"""

from __future__ import annotations

import argparse
import random
import sys
import tempfile
from datetime import UTC, datetime, timedelta
from pathlib import Path
from statistics import median

sys.path.insert(0, str(Path(__file__).parent))

from measure import COMMAND, show, timed
from measure_trail import make, place_of


def plan_of(folder: Path, folders: int) -> None:
    """Say in the plan what is wanted and what protects it; write the runs."""
    rng = random.Random(2)
    places = [place_of(rng.randrange(folders)) for _ in range(29)]
    wanted = "".join(f"  'loft:/{one}': {{loss: 1 day, reach: 30 days, copies: 1}}\n" for one in ("", *places))
    backups = "".join(
        f"        - {{name: {name}, of: [/], disk: {name}, at: 'loft:/F0', every: 1 day, runs: {name}.csv}}\n"
        for name in ("tape", "nas")
    )
    path = folder / "office.yaml"
    plan = path.read_text().replace(
        "    logs:", f"    protection:\n      disk: array\n      backups:\n{backups}    logs:"
    )
    path.write_text(plan + f"protection:\n{wanted}")
    for name in ("tape", "nas"):
        start = datetime.now(UTC) - timedelta(days=200)
        rows = (f"{(start + timedelta(days=day)).isoformat()},yes,{10**9 + day}\n" for day in range(200))
        (folder / f"{name}.csv").write_text("when,done,bytes\n" + "".join(rows))


def files_of(folder: Path, folders: int) -> None:
    """Put a file into every folder of the listing, one in ten of them written in the last weeks."""
    rng, now = random.Random(3), datetime.now(UTC)
    with (folder / "loft.csv").open("a") as out:
        for number in range(folders):
            when = now - timedelta(days=rng.uniform(0, 28) if number % 10 == 0 else rng.uniform(30, 900))
            size = rng.randrange(1, 10**6)
            path = f"/{place_of(number)}/letter.odt"
            out.write(f"{path},file,0,3000,0660,,,{size},{size},{when.isoformat(timespec='seconds')}\n")


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--folders", type=int, default=1_000_000)
    parser.add_argument("--runs", type=int, default=3)
    words = parser.parse_args()
    with tempfile.TemporaryDirectory(dir="/var/tmp") as made:
        folder = Path(made)
        make(folder, 10, words.folders)
        files_of(folder, words.folders)
        plan_of(folder, words.folders)
        timed([COMMAND, "count", "--no-check", "--office", made])
        print("| what | measured | wanted |\n|---|---|---|")
        taken = [timed([COMMAND, "protect", "--office", made]) for _ in range(words.runs)]
        what = f"protect, 30 places among {words.folders:,} folders"
        show(what, f"{median(one[0] for one in taken):.2f} s, {max(one[1] for one in taken):.0f} MB", "≤ 5 s")
        taken = [timed([COMMAND, "protect", "loft:/F3/G7", "--office", made]) for _ in range(words.runs)]
        show("one folder", f"{median(one[0] for one in taken):.2f} s", "≤ 5 s")
        taken = [timed([COMMAND, "protect", "--split", "--office", made]) for _ in range(words.runs)]
        show("--split", f"{median(one[0] for one in taken):.2f} s, {max(one[1] for one in taken):.0f} MB", "≤ 5 s")


if __name__ == "__main__":
    main()
