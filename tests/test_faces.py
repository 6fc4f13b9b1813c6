"""How answers are shown: machine formats that say the same, and what a terminal is shown."""

from __future__ import annotations

import csv
import fcntl
import io
import json
import os
import pty
import re
import shlex
import struct
import termios
import time
from collections import Counter
from contextlib import suppress
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st
from wcwidth import wcswidth

from conftest import COMMAND
from neatledger.faces.durations import Durations
from neatledger.faces.parquet_types import TYPES, Kind
from neatledger.faces.progress import Progress, Waits
from neatledger.faces.table import Layout, render_table
from neatledger.pace import listening, paced
from neatledger.reports.report import Column, Report


def test_parquet_and_json_lines_hold_what_csv_holds(demo: Path, run, tmp_path: Path) -> None:
    import pyarrow.parquet as pq

    for words in (
        ["reach", "--level", "any"],
        ["reach"],
        ["reach", "thistle", "--level", "any"],
        ["space"],
        ["links"],
        ["check"],
    ):
        texts = list(
            csv.DictReader(io.StringIO(run(*words, "--format", "csv", "--office", demo, status=None).stdout))
        )
        run(*words, "-o", tmp_path / "x.parquet", "--office", demo, status=None)
        table = pq.read_table(tmp_path / "x.parquet")
        lines = run(*words, "--format", "jsonl", "--office", demo, status=None).stdout.splitlines()
        rows = [json.loads(line) for line in lines]
        assert table.column_names == list(texts[0]) == list(rows[0]) and len(rows) == len(texts) == table.num_rows

        def told(value: object) -> str:
            if isinstance(value, bool):
                return str(int(value))
            return "" if value is None else " ".join(value) if isinstance(value, list) else str(value)

        for ours, of_lines, of_csv in zip(table.to_pylist(), rows, texts, strict=True):
            for key, text in of_csv.items():
                plain = text.removeprefix("'") if text[:2] in ("'=", "'+", "'-", "'@") else text
                # What is of numbers and days stays so: no limit is -1 there, and no end the last day there is.
                typed = {"no limit": "-1", "no end": "9999-12-31"}.get(plain, plain)
                assert told(ours[key]) in (plain, typed) and told(of_lines[key]) == plain, (words, key)
    assert "name a file" in run("reach", "--format", "parquet", "--office", demo, status=2).stderr
    assert "goes whole" in run("reach", "--format", "csv", "--sort", "person", "--office", demo, status=2).stderr
    (tmp_path / "x.parquet").unlink()
    few = run("links", "--columns", "id,until", "-n", "2", "--office", demo, "--format", "csv", status=None).stdout
    assert few.splitlines()[0] == "id,expires" and len(few.splitlines()) == 3


def test_a_data_set_of_parquet_is_read_by_others_with_the_types_that_are_documented(
    demo: Path, run, tmp_path: Path
) -> None:
    import duckdb

    lake, day = tmp_path / "lake", ("--office", demo, "--today", "2026-11-23")
    text = (Path(__file__).parent.parent / "docs" / "outputs.md").read_text()
    tables = re.search(r"for table in (.*); do neatledger", text)[1]
    for words in shlex.split(tables):
        for as_of in ((), ("--as-of", "2026-11-16")):
            # What is written again takes the place of what was there.
            for _ in range(2 if words == "links" else 1):
                run(*words.split(), "-f", "parquet", "-o", f"{lake}/", *day, *as_of, status=None)
        asked = [*words.split(), "--format", "csv", *day]
        told = list(csv.DictReader(io.StringIO(run(*asked, status=None).stdout)))
        name = "space-folders" if "barn:/" in words else {"reach": "access"}.get(words.split()[0], words.split()[0])
        source = f"read_parquet('{lake}/{name}/**/*.parquet', hive_partitioning = true)"
        (newest,) = duckdb.sql(f"SELECT max(count), min(count) FROM {source}").fetchall()
        assert newest == (40, 39)
        assert duckdb.sql(f"SELECT count(*) FROM {source} WHERE count = 40").fetchall() == [(len(told),)]
        columns = {row[0]: row[1] for row in duckdb.sql(f"DESCRIBE SELECT * FROM {source}").fetchall()}
        declared = TYPES.get(name, {})
        assert set(columns) - {"system", "count"} == set(told[0]) - {"system"}
        sorts = {Kind.TEXT: "VARCHAR", Kind.NUMBER: "BIGINT", Kind.TRUTH: "BOOLEAN", Kind.DAY: "DATE", Kind.TEXTS: "VARCHAR[]",
                 Kind.MOMENT: "TIMESTAMP WITH TIME ZONE"}  # fmt: skip
        for key, one in declared.items():
            assert f"`{key}`" in text and columns.get(key, sorts[one.kind]) == sorts[one.kind]
        for key in set(told[0]) - {"system"}:
            # Figures add up to what CSV has, whatever program reads them.
            if columns[key] == "BIGINT":
                ((found,),) = duckdb.sql(
                    f'SELECT sum("{key}") FILTER (WHERE "{key}" <> -1) FROM {source} WHERE count = 40'
                ).fetchall()
                assert (found or 0) == sum(int(row[key]) for row in told if row[key].lstrip("-").isdigit()), key
    query = re.search(r"duckdb\.sql\('''(.*?)'''\)", text, re.DOTALL)[1].replace("lake/", f"{lake}/")
    assert duckdb.sql(query).fetchall()


def test_long_output_goes_through_the_pager_of_a_terminal_and_grave_words_have_weight(
    demo: Path, tmp_path: Path
) -> None:
    pager = tmp_path / "pager"
    pager.write_text(f"#!/bin/sh\ncat > {tmp_path}/paged\n")
    pager.chmod(0o755)

    def on_terminal(*words: str, **env: str) -> str:
        shown = bytearray()
        ours = {**os.environ, "TERM": "xterm", "COLUMNS": "100", "LINES": "24", **env}
        ours.pop("NO_COLOR", None) if "NO_COLOR" not in env else None
        child, terminal = pty.fork()
        if child == 0:
            os.execvpe(COMMAND, [COMMAND, *words, "--office", str(demo)], ours)
        fcntl.ioctl(terminal, termios.TIOCSWINSZ, struct.pack("HHHH", 24, 100, 0, 0))
        with suppress(OSError):
            while part := os.read(terminal, 4096):
                shown += part
        os.waitpid(child, 0)
        return shown.decode().replace("\r", "")

    assert on_terminal("check", "-a", PAGER=str(pager)) == "" and "Score " not in (tmp_path / "paged").read_text()
    assert "\x1b[1;35mhigh\x1b[0m " in (tmp_path / "paged").read_text()
    (tmp_path / "paged").unlink()
    assert "problems" in on_terminal("check", "--no-pager", PAGER=str(pager))
    assert "problems" in on_terminal("check", PAGER="cat") and "problems" in on_terminal("check", PAGER="")
    assert "\x1b" not in on_terminal("check", "--no-pager", NO_COLOR="1")
    assert on_terminal("ledger", "-n", "1", PAGER=str(pager)) and not (tmp_path / "paged").exists()


WORDS = st.lists(st.text("abcdefg/:é漢", min_size=1, max_size=9), max_size=12).map(" ".join)


@st.composite
def tables(draw) -> Report:
    sorts = draw(st.lists(st.sampled_from(["cuts", "wraps", "number", "spare", "plain"]), min_size=1, max_size=6))
    heads = draw(st.lists(st.sampled_from(["", "NAME", "LAST SEEN", "AGAINST THE PLAN"]), min_size=6, max_size=6))
    columns = [Column(f"c{n}", heads[n], **({} if sort == "plain" else {sort: True})) for n, sort in enumerate(sorts)]
    cell = {sort: st.integers(0, 999_999) if sort == "number" else WORDS for sort in sorts}
    row = st.fixed_dictionaries({f"c{n}": cell[sort] for n, sort in enumerate(sorts)})
    return Report("any", "", columns, draw(st.lists(row, min_size=1, max_size=4)))


@given(tables(), st.sampled_from([60, 80, 120]))
def test_no_table_is_wider_than_the_terminal_and_loses_a_figure(report: Report, width: int) -> None:
    lines = render_table(report, Layout(width)).splitlines()
    assert max(map(wcswidth, lines)) <= width
    letters = sorted("".join(lines).replace(" ", ""))
    kept = [one for one in report.columns if not one.spare]
    for row in report.rows:
        assert not Counter("".join(f"{row[one.key]}" for one in kept).replace(" ", "")) - Counter([*letters, ","])
    figures = re.findall(r"\d[\d,]*", "\n".join(lines))
    for row in report.rows:
        assert all(f"{row[one.key]:,}" in figures for one in report.columns if one.number)


@pytest.mark.parametrize("call", ["groups", "people", "space --forecast", "limits"])
def test_what_people_see_fits_eighty_columns(demo: Path, run, monkeypatch, call: str) -> None:
    monkeypatch.setenv("COLUMNS", "80")
    shown = run(*call.split(), "--office", demo, "--today", "2026-11-23", status=None).stdout.splitlines()
    assert len(shown) > 3 and max(map(wcswidth, shown)) <= 80


class Terminal(io.StringIO):
    def isatty(self) -> bool:
        return True


def test_long_work_says_how_far_it_is_and_about_how_long_it_takes_still(tmp_path: Path, monkeypatch) -> None:
    monkeypatch.setattr("neatledger.faces.progress._AFTER_SECONDS", 0.04)
    durations = Durations({"XDG_CACHE_HOME": str(tmp_path)}, tmp_path / "Secret practice")

    def shown(label: str, work, quiet: bool = False) -> str:
        waits = Waits(Terminal(), durations, quiet=quiet)
        with suppress(KeyboardInterrupt), Progress(waits, label) as progress:
            work(waits, progress)
        return waits.out.getvalue()

    def parts(_, progress: Progress) -> None:
        with listening(progress.part):
            for _ in paced(range(4)):
                for _ in paced(range(1000)):
                    pass
                time.sleep(0.1)

    told = shown("checking", parts)
    assert "checking: 2 of 4 done, 1 s, about 1 s left" in told and "1000" not in told and told.endswith("\r\x1b[K")
    assert shown("checking", parts, quiet=True) == "" and shown("checking", lambda *_: None) == ""
    # By how long it took the last time, where that is known; only figures are kept, under no name.
    (tmp_path / "neatledger").mkdir()
    durations.keep("checking", 1.5)
    assert not list((tmp_path / "neatledger").iterdir())
    durations.keep("checking", 9.4)
    (kept,) = (tmp_path / "neatledger").iterdir()
    assert json.loads(kept.read_text()) == {"checking": 9.4} and "Secret" not in kept.name
    assert "1 s, about 9 s left" in shown("checking", lambda *_: time.sleep(0.2))
    kept.write_text('{"checking": 2.0')
    assert "left" not in shown("checking", lambda *_: time.sleep(0.2))

    def answer(waits: Waits, _: Progress) -> None:
        time.sleep(0.1)
        waits.hold()
        waits.out.write("ANSWER")
        time.sleep(0.1)

    def stopped(*_) -> None:
        time.sleep(0.1)
        raise KeyboardInterrupt

    # Nothing comes into an answer, and what is stopped leaves no line behind and no duration.
    assert shown("checking", answer).endswith("\r\x1b[KANSWER")
    assert shown("stopping", stopped).endswith("\r\x1b[K") and "stopping" not in kept.read_text()
