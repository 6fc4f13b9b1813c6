"""Every sentence that says that all is well: a world where it holds, and the nearest ones in which it must not be said.

The table has the keys of `reports.assurances`, and a row for each: how it is asked for, and by what a small office that
is all right comes out of order, or is not seen. A sentence is *said* where its words stand without a bound.
"""

from __future__ import annotations

import json
import os
import re
import shutil
import subprocess
import sys
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

import pytest
import yaml

from neatledger.reports.assurances import ASSURANCES

pytestmark = pytest.mark.skipif(os.getuid() != 0, reason="files of several owners are made")

ADA, BO, TEAM = 4801, 4802, 4901
PLAN = """
office: Worlds
domain: worlds.example
systems:
  b: {source: tree, path: tree, accounts: {passwd: passwd, group: group}}
people:
  ada: {name: Ada Fenn, email: ada@worlds.example, accounts: {b: ada}, posts: [clerk]}
  bo: {name: Bo Quill, email: bo@worlds.example, accounts: {b: bo}, posts: [clerk]}
posts:
  clerk: {name: Clerk, groups: [team]}
groups:
  team: {}
folders:
  b:/: {grants: {team: read}}
  b:/docs: {grants: {team: write}}
space:
  pools: {disk: {size: 10 GB, holds: [b:/]}}
  bands: {small: {limit: 1 GB}}
  limits: {b:/docs: {band: small}}
  barred: [{in: b:/, kinds: [exe]}]
accepted:
  - {check: unlimited-in-pool, place: disk, reason: nobody fills it}
  - {check: unlimited-in-pool, place: b, reason: nobody fills it}
"""
PASSWD = "".join(f"{name}:x:{uid}:{TEAM if uid else 0}:{name}:/:/bin/sh\n" for name, uid in (("ada", ADA), ("bo", BO), ("root", 0)))


def make(folder: Path) -> Path:
    """Make the office in which all is well."""
    docs = folder / "tree" / "docs"
    docs.mkdir(parents=True)
    (docs / "plan.txt").write_text("hello")
    for path, uid, mode in ((folder / "tree", 0, 0o750), (docs, 0, 0o2770), (docs / "plan.txt", ADA, 0o660)):
        os.chown(path, uid, TEAM)
        path.chmod(mode)
    (folder / "passwd").write_text(PASSWD)
    (folder / "group").write_text(f"team:x:{TEAM}:ada,bo\nroot:x:0:\n")
    (folder / "office.yaml").write_text(PLAN)
    return folder


@dataclass(frozen=True)
class World:
    """One way in which the office is not as the sentence says; `again` is whether it is looked at after that."""

    name: str
    change: Callable[[Path], object]
    again: bool = True


def edit(path: str, *ways: object) -> Callable[[Path], None]:
    """Return what sets a value in the plan, by the keys on the way to it."""

    def change(folder: Path) -> None:
        plan = yaml.safe_load((folder / "office.yaml").read_text())
        here = plan
        for key in path.split("|")[:-1]:
            here = here.setdefault(key, {})
        here[path.split("|")[-1]] = ways[0]
        (folder / "office.yaml").write_text(json.dumps(plan))

    return change


def write(name: str, text: str) -> Callable[[Path], object]:
    return lambda folder: (folder / name).write_text(text)


def mode(name: str, bits: int) -> Callable[[Path], None]:
    return lambda folder: (folder / "tree" / name).chmod(bits)


def add_file(name: str, uid: int, bits: int, size: int = 1) -> Callable[[Path], None]:
    def change(folder: Path) -> None:
        path = folder / "tree" / name
        path.write_bytes(b"x" * size)
        os.chown(path, uid, TEAM)
        path.chmod(bits)

    return change


# What any sentence about the whole office must not pass over.
HALF_READ = World("a line of the accounts cannot be read", write("passwd", PASSWD + "half a line\n"))
NOT_COUNTED = World("a system of the plan was never counted", edit("systems|c", {"source": "tree", "path": "tree"}), again=False)
SHUT = World("a file is its owner's alone", mode("docs/plan.txt", 0o600))
OPEN = World("anybody may come in", lambda folder: [mode("", 0o755)(folder), mode("docs", 0o777)(folder)])
GONE = World("a folder of the plan is not there", lambda folder: shutil.rmtree(folder / "tree" / "docs"))
NO_MEMBER = World("somebody is not in the group", write("group", f"team:x:{TEAM}:ada\nroot:x:0:\n"))
STRANGE = World("a file is of another owner", add_file("docs/new.txt", 4999, 0o600))


@dataclass(frozen=True)
class Row:
    """How a sentence is asked for (words of the command, `before` it perhaps others), and the worlds against it."""

    key: str
    asked: str
    said: str
    worlds: tuple[World, ...]
    before: tuple[Callable[[Path], object], ...] = ()


COUNT_AGAIN: Callable[[Path], object] = lambda folder: call(folder, "gather", "--quiet")  # noqa: E731
LOW_LIMIT = World("the limit is nought", edit("space|bands|small|limit", "0 B"))
OVER = World("more is there than the limit", lambda f: [edit("space|bands|small|limit", "1 kB")(f), add_file("docs/big", ADA, 0o660, 5000)(f)])
ENDS = World("somebody's last day is near", edit("people|bo|end", "2026-12-20"))
ROWS = (
    Row("check", "check", "Nothing found", (SHUT, OPEN, GONE, STRANGE, HALF_READ, NOT_COUNTED)),
    Row("check", "check --only plan-differs", "Nothing found", (SHUT, OPEN, HALF_READ)),
    Row("brief", "brief", "nothing found by", (SHUT, OPEN, GONE, HALF_READ, NOT_COUNTED)),
    Row("mend", "mend", "Nothing to do", (SHUT, OPEN, GONE, STRANGE, HALF_READ, NOT_COUNTED)),
    Row("both-sides", "access --side both", "plan and found agree", (SHUT, OPEN, HALF_READ, NOT_COUNTED)),
    Row("changes", "changes", "Nobody gained or lost", (SHUT, OPEN, HALF_READ), (COUNT_AGAIN,)),
    Row("compare", "compare ada bo", "have the same", (SHUT, NO_MEMBER, STRANGE, HALF_READ)),
    Row("like", "suppose --like ada", "nothing is lacking", (World("a file of hers", mode("docs/plan.txt", 0o600)), World("a folder of hers", lambda f: os.chown(f / "tree" / "docs", ADA, 0)), HALF_READ)),
    Row("suppose", "suppose --close ada", "nobody gains or loses", (World("she has an account", write("passwd", PASSWD)),)),
    Row("want", "want b:/docs ada=write bo=write", "It is so", (World("the folder is shut", mode("docs", 0o700)), World("only to be read", mode("docs", 0o2750)), NO_MEMBER)),
    Row("push", "inherit b:/docs --push", "already what it would become", ()),
    Row("plan-names", "plan", "all that it names is there", (GONE, World("a login misspelt", edit("people|bo|accounts", {"b": "boo"})), NOT_COUNTED)),
    Row("bands", "bands", "all are on band", ()),
    Row("kinds", "kinds --barred", "nothing of a barred kind", (World("such a file", add_file("docs/a.exe", ADA, 0o660)), World("no rule at all", edit("space|barred", [])), HALF_READ)),
    Row("match", "match", "every account is matched", (World("an account like hers", write("passwd", PASSWD + f"afenn:x:4803:{TEAM}:Ada Fenn:/:/bin/sh\n")), World("an account of nobody with her name", edit("people|bo|accounts", {})), HALF_READ)),
    Row("connect", "connect --test", "all work", (HALF_READ, World("the tree is not there", lambda f: (f / "tree").rename(f / "other"), again=False), World("no passwd", lambda f: (f / "passwd").unlink(), again=False))),
    Row("space", "space", "No place is over", (LOW_LIMIT, OVER, World("a small disk", edit("space|pools|disk|size", "2 kB")))),
    Row("expiring", "lapses --within 40", "nothing ends until", (ENDS, World("what is accepted ends", edit("accepted", [{"check": "no-email", "place": "x", "reason": "y", "until": "2026-12-20"}])), World("a post ends", edit("people|bo|posts", [{"post": "clerk", "until": "2026-12-20"}])))),
    Row("promised", "space --promised", "No pool of", (World("a small disk", edit("space|pools|disk|size", "1 MB")), World("of a size that nobody says", edit("space|pools|disk", {"holds": ["b:/"]})), World("larger limits", edit("space|bands|small|limit", "20 GB")))),
    Row("joined", "join --prove bo", "has just what the plan says", (SHUT, NO_MEMBER, OPEN, GONE)),
    Row("ledger", "counts --prove", "everything is as it was written", ()),
    Row("all-seen", "counts --not-seen b", "all was seen", (HALF_READ, World("a folder of another file system", lambda f: mount(f)), World("accounts of two numbers", write("passwd", PASSWD + "x:y\n")))),
)  # fmt: skip


def mount(folder: Path) -> None:
    (folder / "tree" / "docs" / "disk").mkdir()
    subprocess.run(["mount", "-t", "tmpfs", "tmpfs", folder / "tree" / "docs" / "disk"], check=True)


@pytest.fixture
def unmounted(tmp_path: Path):
    yield
    subprocess.run(["umount", tmp_path / "o" / "tree" / "docs" / "disk"], capture_output=True)


def call(folder: Path, *words: str) -> str:
    """Return what the command says, in this process."""
    from contextlib import redirect_stderr, redirect_stdout
    from io import StringIO

    from neatledger.cli import main

    out = StringIO()
    with redirect_stdout(out), redirect_stderr(StringIO()):
        main([*words, "--office", str(folder), "--today", "2026-12-01"])
    return out.getvalue()


def is_said(row: Row, told: str) -> bool:
    """Tell whether a sentence stands somewhere without the bound that not all was seen."""
    return any(row.said in line and "as far as was seen" not in line for line in re.split(r"(?<=[.])\s|\n", told))


@pytest.mark.parametrize("row", ROWS, ids=lambda row: row.asked)
def test_a_sentence_is_said_where_it_holds_and_in_no_world_near_to_that(row: Row, tmp_path: Path, unmounted) -> None:
    good = make(tmp_path / "good")
    COUNT_AGAIN(good)
    for step in row.before:
        step(good)
    assert is_said(row, call(good, *row.asked.split())), call(good, *row.asked.split())
    for number, world in enumerate(row.worlds):
        folder = make(tmp_path / f"o{number}" if world.name[0] != "a" or "file system" not in world.name else tmp_path / "o")
        if row.before:
            COUNT_AGAIN(folder)
        if not world.again:
            COUNT_AGAIN(folder)
        world.change(folder)
        if world.again:
            COUNT_AGAIN(folder)
        told = call(folder, *row.asked.split())
        assert not is_said(row, told), (world.name, told)
