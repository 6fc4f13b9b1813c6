"""What people see and type: short addresses that can be typed again, tables within the terminal, one last line."""

from __future__ import annotations

from datetime import date
from pathlib import Path

import pytest
from wcwidth import wcswidth

from neatledger.errors import UnknownNameError
from neatledger.faces.table import Layout, render_table
from neatledger.formats.names import show_address
from neatledger.questions import open_office
from neatledger.questions.short_addresses import ELLIPSES
from neatledger.reports.report import Column, Report

NAMES = (
    "2026", "Drop", "drop", "From the old system", "a\tb", "c\nd", "e\\n", "…", "...", "漢字の書類", "תיקייה", "🙂", "e\u0301",
    "n" * 255, " x ", "100%", "%41", "\udcff\udcfe",
)  # fmt: skip
"""Names of folders: alike, with what is not printable, wide, from right to left, combining, and no text at all."""


@pytest.fixture(scope="module")
def hard_office(tmp_path_factory) -> Path:
    """An office whose tree has every name within every other, and some deeper."""
    from neatledger.cli import main

    folder = tmp_path_factory.mktemp("hard")
    tree = folder / "tree"
    for outer in NAMES:
        if outer in ELLIPSES:
            continue
        for inner in NAMES:
            (tree / outer / inner).mkdir(parents=True)
    (tree / "2026" / "Drop" / "drop" / "Only here").mkdir(parents=True)
    (tree / "Drop" / "2026" / "Only here" / "deeper").mkdir(parents=True)
    (tree / "2026" / "Drop" / "drop" / "Only here" / "letter.txt").touch()
    (folder / "office.yaml").write_text("office: Hard\nsystems: {barn: {source: tree, path: tree}}\n")
    assert main(["gather", "--quiet", "--office", str(folder)]) == 0
    return folder


def test_every_short_address_can_be_typed_again_and_means_what_it_stands_for(hard_office: Path) -> None:
    office = open_office(hard_office, today=date(2026, 11, 23))
    reader = office.reader("barn")
    rows = reader.table("folders").rows
    paths = {reader.path_of(row) for row in range(rows)}
    addresses = [office.address(show_address(type(office.address("barn:/"))("barn", path))) for path in paths]
    assert {one.path for one in addresses} == paths, "every folder is found as it is shown"
    short = office.shortened(addresses)
    for address, text in short.items():
        assert office.address(text) == address, text
        assert office.address(text.replace("/…/", "/.../", 1)) == address, text
        names = text.split("/…/", 1)[1].split("/") if text != show_address(address) else []
        if len(names) > 1:
            # No fewer names would do: with one less, more than one folder ends so, or none can be told from it.
            fewer = address.path.split(b"/")[-len(names) + 1 :]
            assert sum(path.split(b"/")[-len(fewer) :] == fewer for path in paths) > 1, text
    deep = office.address("barn:/2026/Drop/drop/Only here/letter.txt")
    assert office.shortened([deep])[deep] == "barn:/…/drop/Only here/letter.txt"
    assert office.address("…/drop/Only here/letter.txt") == deep
    with pytest.raises(UnknownNameError, match=r"several folders end in '…/Only here' \(say which: barn:/"):
        office.address("…/Only here")
    with pytest.raises(UnknownNameError, match="no folder's address ends in"):
        office.address("barn:/…/Nowhere at all")


@pytest.mark.parametrize("width", [80, 100, 120, 200])
def test_hard_names_stay_within_the_terminal(hard_office: Path, run, monkeypatch, width: int) -> None:
    monkeypatch.setenv("COLUMNS", str(width))
    lines = run("folders", "-a", "--office", hard_office, status=None).stdout.splitlines()
    assert len(lines) > len(NAMES) and max(map(wcswidth, lines)) <= width and min(map(wcswidth, lines)) >= 0
    monkeypatch.delenv("COLUMNS")
    whole = run("folders", "-a", "--office", hard_office, status=None).stdout
    assert "barn:/…" not in whole and f"barn:/{'n' * 255}/{'n' * 255}" in whole


def test_columns_that_lack_room_are_counted_and_empty_ones_left_out() -> None:
    columns = [
        Column("who", "WHO"), Column("why", "WHY", wraps=True), Column("file", "FILE", cuts=True, spare=True),
        Column("none", "NONE"), Column("size", "SIZE", number=True),
    ]  # fmt: skip
    rows = [{"who": "ada", "why": "because " * 6, "file": "x" * 40, "none": "", "size": 1_234_567}] * 2
    wide, narrow = (render_table(Report("x", "All.", columns, rows), Layout(width)) for width in (120, 50))
    assert "FILE" in wide and "NONE" not in wide and "more: -w" not in wide
    assert "FILE" not in narrow and "1 column more: -w" in narrow and "1,234,567" in narrow
