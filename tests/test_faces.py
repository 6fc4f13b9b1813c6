"""How answers are shown: machine formats that say the same, and what a terminal is shown."""

from __future__ import annotations

import csv
import fcntl
import io
import json
import os
import pty
import struct
import termios
from contextlib import suppress
from pathlib import Path

from conftest import COMMAND


def test_parquet_and_json_lines_hold_what_csv_holds(demo: Path, run, tmp_path: Path) -> None:
    import pyarrow.parquet as pq

    for words in (
        ["access", "--every"],
        ["access"],
        ["reach", "thistle", "--every"],
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
                assert told(ours[key]) == plain and told(of_lines[key]) == plain, (words, key)
    assert "name a file" in run("access", "--format", "parquet", "--office", demo, status=2).stderr
    assert "goes whole" in run("access", "--format", "csv", "--sort", "person", "--office", demo, status=2).stderr
    (tmp_path / "x.parquet").unlink()
    few = run("links", "--columns", "id,until", "-n", "2", "--office", demo, "--format", "csv", status=None).stdout
    assert few.splitlines()[0] == "id,expires" and len(few.splitlines()) == 3


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

    assert on_terminal("check", PAGER=str(pager)) == "" and "Exposure" not in (tmp_path / "paged").read_text()
    assert "\x1b[1;35mhigh\x1b[0m:" in (tmp_path / "paged").read_text()
    (tmp_path / "paged").unlink()
    assert "findings" in on_terminal("check", "--no-pager", PAGER=str(pager))
    assert "findings" in on_terminal("check", PAGER="cat") and "findings" in on_terminal("check", PAGER="")
    assert "\x1b" not in on_terminal("check", "--no-pager", NO_COLOR="1")
    assert on_terminal("counts", "-n", "1", PAGER=str(pager)) and not (tmp_path / "paged").exists()
