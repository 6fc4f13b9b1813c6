"""Measure what a change would do, and how fast it is carried out, beside a whole `access` of the same ledger.

    python bench/measure_steps.py [--folders 1000000] [--steps 2000] [--runs 3]   (carrying out: as root)

A ledger of a million folders as `bench/measure.py ask` makes it: one membership supposed, the plan of another file
supposed, a worklist of some thousand steps ordered and shown. And a tree of 5,000 folders, whose lists are set and
set back by the carrier, with the journal.
"""

from __future__ import annotations

import argparse
import random
import subprocess
import sys
import tempfile
import time
from contextlib import suppress
from datetime import UTC, date, datetime
from pathlib import Path
from statistics import median

import numpy as np
from measure import COMMAND, HERE, show, timed

from neatledger.core.lists.posix import pack_body
from neatledger.core.steps.contract import ItemState, Step
from neatledger.core.steps.grants import with_holder
from neatledger.core.steps.lists import ListStep
from neatledger.core.steps.members import MemberStep
from neatledger.core.steps.whom import Sort, Whom
from neatledger.core.tree.order import TreeOrder
from neatledger.core.tree.table import folder_paths
from neatledger.errors import StepError
from neatledger.formats.stepfiles import write_steps
from neatledger.ledger.imagined import ImaginedReader
from neatledger.questions import carrying
from neatledger.questions.office import open_office
from neatledger.questions.ordering import Order


def withdrawals(office_dir: Path, number: int) -> list[Step]:
    """Return steps that take one group each out of the lists of so many folders, drawn by lot."""
    office = open_office(office_dir, today=date.today())
    reader, rng = office.readers["big"], random.Random(1)
    state, folders = ImaginedReader(reader), reader.table("folders")
    path_of, found = folder_paths(folders), list[Step]()
    for row in rng.sample(range(1, folders.rows), min(folders.rows - 1, number * 20)):
        path = path_of(row)
        item = state.folder_state(path)
        assert item is not None
        named = reader.terms.model.parse(item.body).view(is_folder=True).groups
        groups = [
            ident for ident, rights in named.items() if rights and ident != reader.terms.model.group_of(item.body)
        ]
        if groups:
            after = with_holder("posix", item, Whom(Sort.GROUP, rng.choice(groups)), None)
            found += [ListStep("big", path, "posix", item, after)] if after != item else []
        if len(found) == number:
            break
    return found


def moves(office_dir: Path, number: int) -> list[Step]:
    """Return steps that hang together: people put into groups and taken out, and groups taken out of lists."""
    office, rng = open_office(office_dir, today=date.today()), random.Random(2)
    state, found = ImaginedReader(office.readers["big"]), list[Step]()
    while len(found) < number // 2:
        group, login = rng.choice(state.groups), rng.choice(state.accounts).login
        step = MemberStep("big", group.ident, group.name, login, False, rng.random() < 0.5)
        if any(one.target == step.target for one in found):
            continue
        with suppress(StepError):
            step.apply(state)
            found.append(step)
    return found + withdrawals(office_dir, number - len(found))


def ordered(office_dir: Path) -> None:
    """Show how long more and more steps take to be ordered that hang together by memberships."""
    office = open_office(office_dir, today=date.today())
    for number in (40, 200, 1_000, 2_000, 4_000):
        steps = moves(office_dir, number)
        started = time.process_time()
        Order(office, steps)
        show(
            f"{len(steps):,} steps ordered, {number // 2:,} of them memberships",
            f"{time.process_time() - started:.2f} s of processor time",
            "2,000: ≤ 10 s",
        )


def other_plan(office_dir: Path, target: Path) -> None:
    """Write a plan of all people that gives eight folders, with some hundred below each, to groups."""
    accounts = open_office(office_dir).readers["big"].accounts
    people = {one.login: {"name": one.login, "accounts": {"big": one.login}} for one in accounts}
    lines = [(office_dir / "office.yaml").read_text(), "people:"]
    lines += [f"  {login}: {{name: {login}, accounts: {{big: {login}}}}}" for login in people]
    lines.append("groups:")
    groups = open_office(office_dir).readers["big"].groups
    lines += [f"  {one.name}: {{members: [{', '.join(one.members)}]}}" for one in groups[:8]]
    lines.append("folders:")
    office = open_office(office_dir)
    reader = office.readers["big"]
    folders = reader.table("folders")
    order, path_of = TreeOrder(folders), folder_paths(folders)
    tops = np.flatnonzero((order.size > 80) & (order.size < 160))[:8]
    for number, path in enumerate(path_of(row) for row in tops.tolist()):
        lines.append(f'  "big:{path.decode()}": {{grants: {{{groups[number].name}: write}}}}')
    target.write_text("\n".join(lines) + "\n")


def carried(folder: Path, number: int) -> None:
    """Set the lists of a tree by the carrier and set them back, and show how many a second."""
    for place in range(number):
        (folder / "tree" / str(place // 100) / str(place % 100)).mkdir(parents=True)
    (folder / "passwd").write_text("root:x:0:0:root:/root:/bin/sh\n")
    (folder / "group").write_text("all:x:3000:\n")
    accounts = "accounts: {passwd: passwd, group: group}"
    plan = f"office: Tree\nsystems: {{barn: {{source: tree, path: tree, may-change: true, {accounts}}}}}\n"
    (folder / "office.yaml").write_text(plan)
    subprocess.run([COMMAND, "count", "--quiet", "--office", folder], check=True, stdout=subprocess.DEVNULL)
    office = open_office(folder)
    state, steps = ImaginedReader(office.readers["barn"]), list[Step]()
    for place in range(number):
        path = b"/%d/%d" % (place // 100, place % 100)
        item = state.folder_state(path)
        assert item is not None
        steps.append(ListStep("barn", path, "posix", item, ItemState(item.owner, pack_body(0o750, 3000))))
    carriers = carrying.Carriers(office, lambda _: lambda user, host: sys.exit("no password is needed"))
    journal = office.ledger.journal
    for what, work in (
        ("list steps carried out", lambda: carrying.carry_out(journal, steps, carriers, lambda: datetime.now(UTC))),
        ("and taken back", lambda: carrying.undo(journal, carriers, lambda: datetime.now(UTC))),
    ):
        started = time.perf_counter()
        done = work()
        seconds = time.perf_counter() - started
        assert not done.stopped and len(done.made) == number
        show(what, f"{number / seconds:,.0f} a second", "≥ 500 a second")
    carriers.close()


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__.splitlines()[0])
    parser.add_argument("--dir", type=Path, default=Path("/var/tmp/neatledger-bench"))
    parser.add_argument("--folders", type=int, default=1_000_000)
    parser.add_argument("--steps", type=int, default=2_000)
    parser.add_argument("--runs", type=int, default=3)
    words = parser.parse_args()
    office = words.dir / f"ledger-{words.folders}-1500-posix"
    if not office.exists():
        words.dir.mkdir(parents=True, exist_ok=True)
        make = [sys.executable, str(HERE / "make_ledger.py"), str(office), "--folders", str(words.folders)]
        subprocess.run([*make, "--lists", "1500", "--model", "posix"], check=True)
    where = ["--office", str(office), "--quiet", "--format", "csv"]
    print("| what | measured | wanted |\n|---|---|---|")
    with tempfile.TemporaryDirectory() as name:
        steps, plan = Path(name) / "steps.json", Path(name) / "other.yaml"
        write_steps(str(steps), withdrawals(office, words.steps))
        other_plan(office, plan)
        calls = {
            "access": (["reach", "-o", f"{name}/out.csv"], ""),
            "suppose --member of one person": (["suppose", "--member", "g3=p5"], "≤ 5 s"),
            "suppose --plan of another file": (["suppose", "--plan", str(plan)], "≤ 15 s"),
            f"mend: {words.steps:,} steps ordered and shown": (["mend", str(steps)], "≤ 10 s"),
        }
        times: dict[str, list[tuple[float, float]]] = {what: [] for what in calls}
        for _ in range(words.runs):
            for what, (call, _limit) in calls.items():
                times[what].append(timed([COMMAND, *call, *where]))
        for what, (_, limit) in calls.items():
            peak = max(each[1] for each in times[what])
            show(what, f"{median(each[0] for each in times[what]):.1f} s, {peak:.0f} MB", limit)
        small = words.dir / "ledger-5000-300-posix"
        if not small.exists():
            make = [sys.executable, str(HERE / "make_ledger.py"), str(small), "--folders", "5000"]
            subprocess.run([*make, "--lists", "300", "--model", "posix"], check=True)
        ordered(small)
        carried(Path(name), 5_000)


if __name__ == "__main__":
    main()
