"""Parts of a question on the workers of a cluster: the same bytes, also where workers are killed in the midst of it."""

from __future__ import annotations

import json
import os
import random
import re
import shutil
import signal
import sqlite3
import threading
import time
from collections.abc import Iterator
from pathlib import Path

import pytest

from neatledger.questions import parts

DAY = ("--today", "2026-11-23")


@pytest.fixture(scope="module")
def cluster() -> Iterator[object]:
    """A scheduler with two workers, each a process that is started again when it is lost."""
    from distributed import LocalCluster

    with LocalCluster(
        n_workers=2, threads_per_worker=1, dashboard_address="127.0.0.1:0", host="127.0.0.1", silence_logs=50
    ) as found:
        yield found


@pytest.fixture
def office(demo: Path, tmp_path: Path) -> Path:
    folder = tmp_path / "office"
    shutil.copytree(demo, folder)
    return folder


@pytest.mark.parametrize("form", ["csv", "json", "jsonl", "xml"])
def test_the_table_of_access_is_the_same_to_the_byte(office: Path, cluster, run, monkeypatch, form: str) -> None:
    monkeypatch.setattr(parts, "_RUN", 7)
    on = ("--on", cluster.scheduler_address)
    more = (["--all"], ["--person", "finch", "--every"], ["--below", "barn:/Records", "--every"])
    # What is asked of the workers is the same whatever the form; each form is put together here.
    for words in (["--every"], [], *(more if form == "csv" else ())):
        asked = ["access", *words, "-f", form, "--office", office, *DAY]
        assert run(*asked, *on).stdout == run(*asked).stdout, words


def test_findings_reports_and_counts_are_the_same(office: Path, cluster, tmp_path: Path, run) -> None:
    other = tmp_path / "other"
    shutil.copytree(office, other)
    on = ("--on", cluster.scheduler_address)
    for one, more in ((office, on), (other, ())):
        run("gather", "--no-check", "--office", one, "--today", "2026-11-27", *more)
        run("report", "office", "-o", one / "page.html", "--office", one, "--today", "2026-11-27", *more)
    # The seal of the ledger tells when it was written, to the second.
    pages = [re.sub(r"[0-9a-f]{64}", "", (one / "page.html").read_text()) for one in (office, other)]
    assert pages[0].replace(str(office), "") == pages[1].replace(str(other), "")
    for words in (("access", "--every"), ("check", "--all"), ("space",), ("links",)):
        told = [
            run(*words, "-f", "csv", "--office", one, "--today", "2026-11-27", status=None).stdout.replace(
                str(one), ""
            )
            for one in (office, other)
        ]
        assert told[0] == told[1] and told[0], words
    # What cannot be read on a worker is told as if it were read here.
    (office / "loft.csv").unlink()
    done = run("gather", "--no-check", "--office", office, "--today", "2026-11-28", *on, status=2)
    assert "loft was not counted" in done.stderr and "Count 42 is kept" in done.stdout


def test_a_tree_is_shared_out_and_gathers_to_the_same_rows(cluster, tmp_path: Path, run) -> None:
    rng = random.Random(5)
    tree, files = tmp_path / "tree", []
    for number in range(260):
        folder = tree / f"d{number % 13}" / f"e{number}"
        folder.mkdir(parents=True)
        folder.chmod(rng.choice([0o700, 0o755, 0o770]))
        for name in range(rng.randrange(4)):
            path = folder / f"f{name}.{rng.choice(['odt', 'txt'])}"
            # Other names of what lies in other workers' parts.
            os.link(rng.choice(files), path) if files and rng.random() < 0.2 else path.write_bytes(
                b"x" * rng.randrange(9000)
            )
            files.append(path)
    offices = [tmp_path / name for name in ("here", "there")]
    for office in offices:
        office.mkdir()
        (office / "office.yaml").write_text(f"office: O\nsystems:\n  barn: {{source: tree, path: {tree}}}\n")
    run("gather", "--no-check", "--office", offices[0], *DAY)
    run("gather", "--no-check", "--office", offices[1], *DAY, "--on", cluster.scheduler_address)
    rows = []
    for office in offices:
        with sqlite3.connect(office / "ledger.db") as db:
            rows.append(
                [
                    list(db.execute(f"SELECT * FROM {table}"))
                    for table in ("packed", "accounts", "surveys", "not_seen")
                ]
            )
    assert rows[0][0] == rows[1][0] and rows[0][1] == rows[1][1] and rows[0][3] == rows[1][3]
    facts = [json.loads(some[2][0][-1]) for some in rows]
    for one in facts:
        # What is free on the disk changes with every file that anybody writes.
        del one["pool_free_bytes"], one["pool_items_used"]
    assert facts[0] == facts[1]


def test_killed_workers_lose_nothing(office: Path, cluster, run, monkeypatch, pytestconfig) -> None:
    monkeypatch.setattr(parts, "_RUN", 3)
    asked = ["access", "--all", "-f", "csv", "--office", office, *DAY]
    whole = run(*asked).stdout
    landed = 0
    for number in range(max(2, pytestconfig.getoption("--kills"))):
        is_over, killed = threading.Event(), []

        def kill(delay: float, is_over: threading.Event = is_over, killed: list[int] = killed) -> None:
            time.sleep(delay)
            pids = [one["pid"] for one in _workers(cluster)]
            if not is_over.is_set() and pids:
                os.kill(pids[0], signal.SIGKILL)
                killed.append(pids[0])

        killer = threading.Thread(target=kill, args=(0.15 + 0.1 * number,))
        killer.start()
        told = run(*asked, "--on", cluster.scheduler_address).stdout
        is_over.set()
        killer.join()
        landed += bool(killed)
        assert told == whole
    assert landed, "no kill came while it worked"


def _workers(cluster) -> list[dict[str, int]]:
    return [{"pid": nanny.pid} for nanny in cluster.workers.values() if nanny.pid]


def test_a_cluster_that_is_not_there_is_told_in_one_line(office: Path, run) -> None:
    for address, said in (
        ("local:none", "names no number of processes"), ("tcp://127.0.0.1:1", "no cluster is to be reached"),
    ):  # fmt: skip
        done = run("access", "-f", "csv", "--office", office, "--on", address, status=2)
        assert said in done.stderr and len(done.stderr.strip().splitlines()) == 1 and not done.stdout
    assert json.loads(run("access", "-f", "json", "--office", office, "--on", "local:1").stdout)["rows"]
