"""Measure the reading of a server's audit log and questions about it, beside a plain ``grep`` of the same file.

    python bench/measure_trail.py [--records 1000000] [--runs 3]

300 people, 20,000 folders with forty names of files each, a record every three seconds: what a file server with
much to do writes in five weeks. Everything is made in a temporary folder, and goes with it.
"""

from __future__ import annotations

import argparse
import random
import shlex
import sys
import tempfile
from datetime import UTC, datetime, timedelta
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parent))

from measure import COMMAND, show, side_by_side, timed

OFFICE = """office: bench
people:
  p1: {name: Ada, accounts: {loft: p1}}
systems:
  loft:
    source: tree
    path: tree
    accounts: {passwd: passwd, group: group}
    logs: [{file: audit.log, form: smb, roots: {/srv/desk: /desk}}]
"""
ACTS = ("create_file|ok|0x89|file|open|", "create_file|ok|0x112|file|overwrite_if|", "unlinkat|ok|")


def make(folder: Path, records: int) -> None:
    rng = random.Random(1)
    (folder / "tree").mkdir()
    (folder / "office.yaml").write_text(OFFICE)
    (folder / "passwd").write_text("p1:x:1001:1001:Ada:/:/bin/sh\n")
    (folder / "group").write_text("p1:x:1001:\n")
    (folder / "audit.log").touch()
    timed([COMMAND, "gather", "--no-check", "--office", str(folder)])
    start = datetime(2026, 1, 1, tzinfo=UTC)
    with (folder / "audit.log").open("w") as log:
        for number in range(records):
            place = rng.randrange(20_000)
            path = f"/srv/desk/F{place // 100}/G{place % 100}/letter {place}-{rng.randrange(40)}.txt"
            when = (start + timedelta(seconds=3 * number)).isoformat()
            person = rng.randrange(300)
            address, device = (
                (f"10.0.{person // 100}.{person % 100}", "desk") if rng.random() < 0.9 else ("10.8.0.4", "far")
            )
            log.write(
                f"{when} loft smbd_audit: p{person}|{address}|{device}-{person}|desk|{rng.choice(ACTS)}{path}\n"
            )


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--records", type=int, default=1_000_000)
    parser.add_argument("--runs", type=int, default=3)
    words = parser.parse_args()
    with tempfile.TemporaryDirectory(dir="/var/tmp") as made:
        folder = Path(made)
        make(folder, words.records)
        log, ledger = folder / "audit.log", folder / "ledger.db"
        print(
            f"{words.records:,} records, {log.stat().st_size / 1e6:,.0f} MB of text\n\n| what | measured | wanted |"
        )
        print("|---|---|---|")
        before = ledger.stat().st_size
        seconds, peak = timed([COMMAND, "trail", "--read", "--office", made])
        show("read and stored", f"{seconds:.1f} s, {peak:.0f} MB", f"≤ {20 * words.records / 1e6:.0f} s")
        show("stored", f"{(ledger.stat().st_size - before) / words.records:.0f} bytes a record", "≤ 60")
        for what, asked, sought in (
            ("one person", ["p1"], "|p1|..*|ok|"),
            ("one folder", ["loft:/desk/F3/G7"], "/srv/desk/F3/G7/"),
            ("one day", ["--since", "2026-01-20", "--until", "2026-01-20"], "^2026-01-20"),
        ):
            ours = [COMMAND, "trail", *asked, "--format", "csv", "--office", made]
            mine, other, peak = side_by_side(
                ours, ["sh", "-c", f"grep {shlex.quote(sought)} {log} | cat"], words.runs
            )
            show(what, f"{mine:.2f} s, {peak:.0f} MB; grep {other:.2f} s ({mine / other:.1f} ×)", "≤ 1 s")


if __name__ == "__main__":
    main()
