"""POSIX lists against the kernel: every cell of the whole table, and the parts of a single answer."""

from __future__ import annotations

import csv
import io
import json
import os
import stat
from pathlib import Path
from urllib.parse import unquote_to_bytes

import pytest

from judges import kernel

CELLS = ("enter", "list", "add", "delete", "manage", "files", "files_read", "files_change", "files_delete")
HEAD = "person,account,system,folder,way,level," + ",".join(CELLS)


def make_office(tmp_path: Path, run, seed: int, folders: int) -> tuple[Path, Path]:
    tree, office = tmp_path / "tree", tmp_path / "office"
    kernel.make_random_tree(tree, seed, folders)
    (tmp_path / "passwd").write_text(kernel.PASSWD)
    (tmp_path / "group").write_text(kernel.GROUP_FILE)
    run("connect", "--office", office, f"barn={tree}", "--passwd", tmp_path / "passwd", "--group", tmp_path / "group")
    run("count", "--office", office, "--quiet")
    return tree, office


def read_table(text: str) -> dict[tuple[str, bytes, str], dict[str, str]]:
    rows = list(csv.DictReader(io.StringIO(text)))
    return {(row["account"], unquote_to_bytes(row["folder"].partition(":")[2]), row["way"]): row for row in rows}


@pytest.mark.judge
@pytest.mark.parametrize("seed", range(2))
def test_every_cell_agrees_with_the_kernel(tmp_path: Path, run, seed: int) -> None:
    tmp_path.chmod(0o755)
    for above in tmp_path.parents:
        if above.stat().st_uid == os.getuid() and above != Path("/"):
            above.chmod(above.stat().st_mode | stat.S_IXGRP | stat.S_IXOTH)
    tree, office = make_office(tmp_path, run, seed, 120)
    judged = kernel.try_everything(tree)
    compare(run, office, judged)


@pytest.mark.judge
def test_flags_and_mounts_are_as_the_kernel_has_them(tmp_path: Path, run) -> None:
    tmp_path.chmod(0o755)
    for seed in range(2):
        here = tmp_path / str(seed)
        here.mkdir()
        tree, office = make_office(here, run, 70 + seed, 90)
        with kernel.locked_tree(tree, seed):
            run("count", "--office", office, "--quiet")
            judged = kernel.try_everything(tree)
        compare(run, office, judged)
        found = run("check", "--only", "write-on-read-only", "--office", office, status=None).stdout
        assert "read-only" in found


def compare(run, office: Path, judged: dict[tuple[str, bytes], list[int]]) -> None:
    """Compare every cell of the whole table with what the kernel let each account do."""
    text = run("reach", "--all", "--format", "csv", "--office", office).stdout
    assert text.splitlines()[0].startswith(HEAD)
    table = read_table(text)
    wrong = []
    for (login, path), cells in judged.items():
        row = table[login, path, "any"]
        ours = [int(row[cell]) for cell in CELLS]
        if ours != cells:
            wrong.append((login, path, dict(zip(CELLS, zip(ours, cells, strict=True), strict=True))))
    assert not wrong, wrong[:3]
    assert len(judged) == sum(1 for key in table if key[2] == "any")
    check_other_questions(run, office, table)


def check_other_questions(run, office: Path, table) -> None:
    """The narrower tables, JSON, and the answers that read a single path say the same."""
    every = read_table(run("reach", "--level", "any", "--format", "csv", "--office", office).stdout)
    rights = CELLS[:5]
    assert every == {key: row for key, row in table.items() if any(row[cell] == "1" for cell in rights)}
    shown = read_table(run("reach", "--format", "csv", "--office", office).stdout)
    for (account, path, way), row in table.items():
        above = table.get((account, path.rpartition(b"/")[0] or b"/", way)) if path != b"/" else None
        same = [row[cell] for cell in rights] == ([above[cell] for cell in rights] if above else ["0"] * 5)
        assert ((account, path, way) in shown) != same or row["level"] != (above or row)["level"], (account, path)
    found = json.loads(run("reach", "--all", "--format", "json", "--office", office).stdout)["rows"]
    as_text = {(row["account"], row["folder"], row["way"]): row for row in found}
    for row in table.values():
        twin = as_text[row["account"], row["folder"], row["way"]]
        assert [str(int(twin[cell])) for cell in CELLS] == [row[cell] for cell in CELLS]
    folders = sorted({row["folder"] for row in table.values()})[::15]
    for folder in folders:
        answer = json.loads(run("who", folder, "--format", "json", "--office", office).stdout)["rows"]
        for row in answer:
            whole = as_text[row["account"], row["folder"], row["way"]]
            assert [row[cell] for cell in CELLS] == [whole[cell] for cell in CELLS], (folder, row)
