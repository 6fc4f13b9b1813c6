"""Measure gathering and the questions, side by side with a yardstick in one run; prints a table of ratios.

    python bench/measure.py gather [--folders 100000 --files 900000] [--runs 3]   (as root; needs getfacl)
    python bench/measure.py ask    [--folders 1000000]             [--runs 3] [--model posix|nt|nfs4] [--lists 1500]
    python bench/measure.py space  [--folders 1000000]             [--runs 3]
    python bench/measure.py links  [--folders 100000]              [--runs 3]
    python bench/measure.py daily  [--folders 1000000]             [--runs 3]

`gather` against ``getfacl -R -p -n TREE``: the same tree, warm, in turn, each as a whole process.
`ask` against a bare ``python -c pass`` (for --help) and against fixed figures (seconds, rows a second).
`space` rolls usage up and asks about limits, forty counts of history included, against fixed figures.
`links` asks a team-folder service over a share, with 5,000 links and 20,000 hand-outs, against fixed figures.
`daily` asks what is asked every day, of the ledger of `space`: findings by cause, the brief, a history of 40 counts.
Trees are made below --dir (default /var/tmp/neatledger-bench) and kept for the next run.
"""

from __future__ import annotations

import argparse
import gc
import os
import resource
import subprocess
import sys
import time
from datetime import date, timedelta
from itertools import count
from pathlib import Path
from statistics import median

HERE = Path(__file__).parent
COMMAND = str(Path(sys.executable).with_name("neatledger"))


def timed(words: list[str]) -> tuple[float, float]:
    """Run a command with its output thrown away; return wall seconds and peak MB of its largest process."""
    started = time.perf_counter()
    process = subprocess.Popen(words, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
    _, status, usage = os.wait4(process.pid, 0)
    process.returncode = os.waitstatus_to_exitcode(status)
    assert process.returncode in (0, 1), f"{words} failed"
    return time.perf_counter() - started, usage.ru_maxrss / 1024


def side_by_side(ours: list[str], theirs: list[str], runs: int) -> tuple[float, float, float]:
    """Run two commands in turn; return the medians of ours and theirs, and our peak MB."""
    timed(theirs)
    pairs = [(timed(ours), timed(theirs)) for _ in range(runs)]
    peak = max(mine[1] for mine, _ in pairs)
    return median(mine[0] for mine, _ in pairs), median(other[0] for _, other in pairs), peak


def show(what: str, value: str, limit: str) -> None:
    print(f"| {what} | {value} | {limit} |", flush=True)


def gather(words: argparse.Namespace) -> None:
    tree, office = words.dir / f"tree-{words.folders}-{words.files}", words.dir / "office-gather"
    if not tree.exists():
        make = [sys.executable, str(HERE / "make_tree.py"), str(tree)]
        subprocess.run([*make, "--folders", str(words.folders), "--files", str(words.files)], check=True)
    subprocess.run(["rm", "-rf", str(office)], check=True)
    accounts = ["--passwd", f"{tree}.passwd", "--group", f"{tree}.group"]
    subprocess.run([COMMAND, "connect", "--office", str(office), f"big={tree}", *accounts, "--quiet"], check=True)
    ours, theirs, peak = side_by_side(
        [COMMAND, "count", "--no-check", "--quiet", "--office", str(office)],
        ["getfacl", "-R", "-p", "-n", str(tree)],
        words.runs,
    )
    whole, _ = timed([COMMAND, "count", "--quiet", "--office", str(office)])
    entries = words.folders + words.files
    show(f"gather {entries:,} entries, stored", f"{ours:.1f} s", "")
    show("the recursive numeric listing of the same", f"{theirs:.1f} s", "")
    show("count ÷ listing", f"{ours / theirs:.2f}", "≤ 1")
    show("peak memory of gather (largest process)", f"{peak:.0f} MB", "≤ 600 MB")
    show("gather, and looking for what is not in order", f"{whole:.1f} s", "")


def in_memory(office: Path) -> None:
    """Rights of everyone on every folder, from loaded tables, in this process."""
    import numpy as np

    from neatledger.core.access.everyone import Everyone
    from neatledger.core.access.matrix import Matrix
    from neatledger.core.access.shares import SystemTerms
    from neatledger.core.lists.table import MODELS
    from neatledger.core.people.membership import holders_of
    from neatledger.core.people.principals import Principal
    from neatledger.core.plan.plan import Kind
    from neatledger.ledger.opening import open_ledger

    gc.disable()  # as the command does
    ledger = open_ledger(office / "ledger.db")
    started = time.perf_counter()
    reader = ledger.read_survey(ledger.find_count().surveys[0])
    folders, classes = reader.table("folders"), reader.table("classes")
    lists, idents = reader.strings("lists.body"), reader.idents()
    loaded = time.perf_counter()
    accounts, model = reader.accounts, MODELS[reader.model]
    holders = holders_of(accounts, reader.groups, model.everyone_has)
    principals = [
        Principal(account.login, account.login, Kind.STAFF, "big", account, holder, False)
        for account, holder in zip(accounts, holders, strict=True)
    ]
    matrix = Matrix(folders, classes, lists, idents, principals, terms=SystemTerms(model, model.asks_enter))
    listed = time.perf_counter()
    everyone = Everyone(matrix)
    order = everyone.matrix.order.order
    for start in range(0, len(order), 65536):
        everyone.rights(order[start : start + 65536])
    done = time.perf_counter()
    assert everyone.matrix.block(order[:1]).unknown.dtype == np.uint64
    show(f"read {folders.rows:,} folders from the ledger", f"{loaded - started:.2f} s", "")
    show(f"  of that, {len(lists):,} distinct lists evaluated for everybody", f"{listed - loaded:.2f} s", "")
    show(f"rights of {len(principals)} people on all of them, in memory", f"{done - loaded:.2f} s", "< 1 s")


def ask(words: argparse.Namespace) -> None:
    office = words.dir / f"ledger-{words.folders}-{words.lists}-{words.model}"
    if not office.exists():
        make = [sys.executable, str(HERE / "make_ledger.py"), str(office), "--folders", str(words.folders)]
        subprocess.run([*make, "--lists", str(words.lists), "--model", words.model], check=True)
    ours, bare, _ = side_by_side([COMMAND, "--help"], [sys.executable, "-c", "pass"], max(words.runs, 9))
    show("--help ÷ python -c pass", f"{ours / bare:.1f} ({ours * 1000:.0f} ms, {bare * 1000:.0f} ms)", "≤ 5")
    in_memory(office)
    where = ["--office", str(office), "--quiet"]
    deep = deepest(office)
    for name, call in (("who", ["who", deep]), ("why", ["why", "p7", deep]), ("reach", ["reach", "p7"])):
        seconds = median(timed([COMMAND, *call, *where])[0] for _ in range(words.runs))
        show(name, f"{seconds:.2f} s", "≤ 1 s")
    target = words.dir / "out.csv"
    seconds, peak = timed([COMMAND, "reach", "--format", "csv", "-o", str(target), *where])
    show("reach", f"{seconds:.1f} s, {peak:.0f} MB", "≤ 10 s, 1,500 MB")
    below = deep[: deep.index("/", 5)]
    seconds, peak = timed([COMMAND, "reach", "--level", "any", below, "--format", "csv", "-o", str(target), *where])
    with open(target, "rb") as out:
        rows = sum(block.count(b"\n") for block in iter(lambda: out.read(1 << 20), b""))
    show(
        "reach --level any below one of twelve folders",
        f"{rows / seconds:,.0f} rows/s ({rows:,} rows, {peak:.0f} MB)",
        "≥ 500,000 rows/s",
    )
    target.unlink()


_LIMITS = """
limits:
  folders: {"big:/folder 0000001": {limit: 2 TB}, "big:/folder 0000001/*": {limit: 200 GB}}
  people: {"big:everyone": {limit: 1 TB}}
"""


def with_counts(words: argparse.Namespace) -> Path:
    """Return an office of forty counts, with limits; made once."""
    office: Path = words.dir / f"space-{words.folders}"
    if not office.exists():
        make = [sys.executable, str(HERE / "make_ledger.py"), str(office), "--folders", str(words.folders)]
        subprocess.run([*make, "--counts", "40"], check=True)
        plain = (office / "office.yaml").read_text()
        (office / "office.yaml").write_text(plain + _LIMITS)
    return office


def daily(words: argparse.Namespace) -> None:
    """What is asked every day, beside every finding as a list."""
    where = ["--office", str(with_counts(words)), "--quiet"]
    target = str(words.dir / "out.txt")
    pairs = []
    # What was found is kept with the count for a day: each look is for another one.
    days = (f"--today={date.today() + timedelta(days=number)}" for number in count(1))
    for _ in range(words.runs):
        calls = (["check"], ["check", "--all"])
        pairs.append([timed([COMMAND, *call, next(days), "-o", target, *where])[0] for call in calls])
    causes, listed = (median(pair[n] for pair in pairs) for n in (0, 1))
    show(
        "check by causes ÷ every finding as a list",
        f"{causes / listed:.2f} ({causes:.1f} s, {listed:.1f} s)",
        "≤ 1.3",
    )
    folder = "big:/folder 0000001"
    timed([COMMAND, "check", "--new", "-o", target, *where])
    calls = {
        "brief, the count looked at as gather does": (["brief"], "≤ 3 s"),
        "history, 40 counts": (["changes", "p7", folder], "≤ 3 s"),
        "compare": (["reach", "p7", "--compare", "p8"], ""),
        "most": (["reach", "--most", "change"], ""),
        "draft": (["draft"], "≤ 20 s"),
        "groups --suggest": (["groups", "--suggest"], "≤ 30 s"),
        "changes between two counts": (["changes"], ""),
        "report office, a page": (["report", "office", "-o", str(words.dir / "office.html")], "≤ 15 s"),
    }
    for name, (call, limit) in calls.items():
        taken = [timed([COMMAND, call[0], "-o", target, *call[1:], *where]) for _ in range(words.runs)]
        show(name, f"{median(each[0] for each in taken):.2f} s, {taken[-1][1]:.0f} MB", limit)


def space(words: argparse.Namespace) -> None:
    """Usage by owner and kind from the ledger, and the questions on space."""
    office = with_counts(words)
    rolled = median(timed([sys.executable, str(HERE / "roll_up.py"), str(office)])[0] for _ in range(words.runs))
    show("every folder by owner and by kind, with all below it", f"{rolled:.2f} s", "≤ 3 s")
    where = ["--office", str(office), "--quiet"]
    folder = "big:/folder 0000001"
    calls = {
        "space": (["space"], "≤ 1 s"),
        "space of one folder": (["space", folder], "≤ 1 s"),
        "space of one folder by owner": (["space", folder, "--by", "owner"], ""),
        "room": (["space", "p7", folder], "≤ 1 s"),
        "forecast of a folder, 40 counts": (["space", "--forecast", folder], ""),
        "forecast of all 312 limited places, 40 counts": (["space", "--forecast"], ""),
        "report, a page": (["report", "space", "-o", str(words.dir / "space.html")], ""),
    }
    for name, (call, limit) in calls.items():
        taken = [timed([COMMAND, *call, *where]) for _ in range(words.runs)]
        show(name, f"{median(each[0] for each in taken):.2f} s, {taken[-1][1]:.0f} MB", limit)


def links(words: argparse.Namespace) -> None:
    """The questions about a service with many links and hand-outs, some of its team folders over a share."""
    office = words.dir / f"links-{words.folders}"
    if not office.exists():
        subprocess.run(
            [sys.executable, str(HERE / "make_service.py"), str(office), "--folders", str(words.folders)], check=True
        )
    where = ["--office", str(office), "--quiet"]
    target = str(words.dir / "out.csv")
    folder = "meadow" + deepest(office)[3:]
    calls = {
        "access, both systems": (["reach", "--format", "csv", "-o", target], "≤ 5 s"),
        "links": (["links", "--format", "csv", "-o", target], "≤ 5 s"),
        "who": (["who", folder], "≤ 1 s"),
        "why": (["why", "p7", folder], "≤ 1 s"),
        "reach": (["reach", "p7"], ""),
        "suppose --unshare of a hand-out": (["suppose", "--unshare", "hand-out:h3"], ""),
        "guests": (["people", "--guests"], ""),
    }
    for name, (call, limit) in calls.items():
        taken = [timed([COMMAND, *call, *where]) for _ in range(words.runs)]
        show(name, f"{median(each[0] for each in taken):.2f} s, {taken[-1][1]:.0f} MB", limit)


def deepest(office: Path) -> str:
    """Return the address of the last folder of the ledger, which is one of the deepest."""
    from neatledger.ledger.opening import open_ledger

    ledger = open_ledger(office / "ledger.db")
    reader = ledger.read_survey(ledger.find_count().surveys[0])
    row, steps = reader.table("folders").rows - 1, []
    while row > 0:
        folder = reader.folder(row)
        steps.append(folder.name.decode())
        row = folder.parent
    return "big:/" + "/".join(reversed(steps))


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__.splitlines()[0])
    parser.add_argument("what", choices=("gather", "ask", "space", "links", "daily"))
    parser.add_argument("--dir", type=Path, default=Path("/var/tmp/neatledger-bench"))
    parser.add_argument("--folders", type=int)
    parser.add_argument("--files", type=int, default=900_000)
    parser.add_argument("--runs", type=int, default=3)
    parser.add_argument("--lists", type=int, default=1_500)
    parser.add_argument("--model", choices=("posix", "nt", "nfs4"), default="posix")
    words = parser.parse_args()
    words.folders = words.folders or (100_000 if words.what in ("gather", "links") else 1_000_000)
    words.dir.mkdir(parents=True, exist_ok=True)
    resource.setrlimit(resource.RLIMIT_CORE, (0, 0))
    print("| what | measured | wanted |\n|---|---|---|")
    {"gather": gather, "ask": ask, "space": space, "links": links, "daily": daily}[words.what](words)


if __name__ == "__main__":
    main()
