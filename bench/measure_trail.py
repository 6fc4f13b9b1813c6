"""Measure the reading of a server's audit log and questions about it, beside a plain ``grep`` of the same file.

    python bench/measure_trail.py [--records 1000000] [--runs 3] [--folders 100000]

300 people in 150 groups, so many folders of which one in fifty has a list of its own, eight files in each; a record
every twenty seconds for a million of them, which is most of a year. Everything is made in a temporary folder, and
goes with it.
"""

from __future__ import annotations

import argparse
import random
import shlex
import sys
import tempfile
from datetime import UTC, datetime, timedelta
from pathlib import Path
from statistics import median

sys.path.insert(0, str(Path(__file__).parent))

from measure import COMMAND, show, side_by_side, timed

PEOPLE, GROUPS = 300, 150
YEAR = 20_000_000  # seconds, most of a year
ACTS = ("create_file|ok|0x89|file|open|", "create_file|ok|0x112|file|overwrite_if|", "unlinkat|ok|")


def place_of(number: int) -> str:
    return f"F{number // 1000}/G{number // 10 % 100}/H{number % 10}"


def make(folder: Path, records: int, folders: int) -> None:
    rng = random.Random(1)
    people = "".join(f"  p{one}: {{name: P{one}, accounts: {{loft: p{one}}}}}\n" for one in range(PEOPLE))
    (folder / "office.yaml").write_text(
        f"office: bench\npeople:\n{people}systems:\n  loft:\n    source: listing\n    path: loft.csv\n"
        "    accounts: {passwd: passwd, group: group}\n"
        "    logs: [{file: audit.log, form: smb, roots: {/srv/desk: /}}]\n"
    )
    (folder / "passwd").write_text("".join(f"p{n}:x:{2000 + n}:2000::/:/bin/sh\n" for n in range(PEOPLE)))
    members = [",".join(f"p{one}" for one in rng.sample(range(PEOPLE), 8)) for _ in range(GROUPS)]
    (folder / "group").write_text("".join(f"g{n}:x:{3000 + n}:{some}\n" for n, some in enumerate(members)))
    rows = {"": 3000}
    for number in range(folders):
        parts = place_of(number).split("/")
        for depth in range(1, 4):
            path = "/".join(parts[:depth])
            above = rows["/".join(parts[: depth - 1])]
            rows.setdefault(path, 3000 + rng.randrange(GROUPS) if rng.random() < 0.02 else above)
    with (folder / "loft.csv").open("w") as out:
        out.write("path,type,owner,group,mode,list,default,bytes,occupied,changed\n")
        for path, group in rows.items():
            out.write(f"/{path},folder,0,{group},0770,,,0,0,0\n")
    (folder / "audit.log").touch()
    timed([COMMAND, "count", "--no-check", "--office", str(folder)])
    start = datetime.now(UTC) - timedelta(seconds=YEAR + 3600)
    with (folder / "audit.log").open("w") as log:
        for number in range(records):
            path = f"/srv/desk/{place_of(rng.randrange(folders))}/letter {rng.randrange(8)}.txt"
            when = (start + timedelta(seconds=YEAR * number // records)).isoformat(timespec="milliseconds")
            person = rng.randrange(PEOPLE)
            address, device = (f"10.0.{person // 100}.{person % 100}", "desk")
            if rng.random() < 0.1:
                address, device = "10.8.0.4", "far"
            where = f"{address}|{device}-{person}|desk"
            log.write(f"{when} loft smbd_audit: p{person}|{where}|{rng.choice(ACTS)}{path}\n")


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--records", type=int, default=1_000_000)
    parser.add_argument("--runs", type=int, default=3)
    parser.add_argument("--folders", type=int, default=100_000)
    words = parser.parse_args()
    with tempfile.TemporaryDirectory(dir="/var/tmp") as made:
        folder = Path(made)
        make(folder, words.records, words.folders)
        log, ledger = folder / "audit.log", folder / "ledger.db"
        print(
            f"{words.records:,} records, {log.stat().st_size / 1e6:,.0f} MB of text\n\n| what | measured | wanted |"
        )
        print("|---|---|---|")
        before = ledger.stat().st_size
        seconds, peak = timed([COMMAND, "count", "--logs", "--office", made])
        show("read and stored", f"{seconds:.1f} s, {peak:.0f} MB", f"≤ {20 * words.records / 1e6:.0f} s")
        show("stored", f"{(ledger.stat().st_size - before) / words.records:.0f} bytes a record", "≤ 60")
        day = (datetime.now(UTC) - timedelta(days=60)).date().isoformat()
        for what, asked, sought in (
            ("one person", ["p1"], "|p1|..*|ok|"),
            ("one folder", ["loft:/F3/G7"], "/srv/desk/F3/G7/"),
            ("one day", ["--since", day, "--until", day], f"^{day}"),
            ("one day, whole, as CSV", ["--since", day, "--until", day, "--format", "csv"], f"^{day}"),
        ):
            ours = [COMMAND, "trail", *asked, "--office", made]
            mine, other, peak = side_by_side(
                ours, ["sh", "-c", f"grep {shlex.quote(sought)} {log} | cat"], words.runs
            )
            show(what, f"{mine:.2f} s, {peak:.0f} MB; grep {other:.2f} s ({mine / other:.1f} ×)", "≤ 1 s")
        for what, asked, limit in (
            (f"unused, {PEOPLE} people × {words.folders:,} folders", ["unused", "--format", "csv"], "≤ 10 s"),
            ("who, with the last use", ["who", "loft:/F3/G7"], "≤ 1 s"),
            ("what looks wrong", ["trail", "--unusual"], "≤ 10 s"),
        ):
            taken = [timed([COMMAND, *asked, "--office", made]) for _ in range(words.runs)]
            show(what, f"{median(one[0] for one in taken):.2f} s, {max(one[1] for one in taken):.0f} MB", limit)


if __name__ == "__main__":
    main()
