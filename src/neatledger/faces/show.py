"""Show a report the way the call asks for: which face, and where to."""

from __future__ import annotations

import os
import tempfile
from collections.abc import Iterable, Iterator, Sequence
from contextlib import contextmanager
from itertools import islice
from pathlib import Path
from typing import TYPE_CHECKING, TextIO

from neatledger.errors import NeatError
from neatledger.faces.machine import csv_lines, json_lines, render_csv, render_json
from neatledger.reports.report import Cell, Report, Size

if TYPE_CHECKING:
    from neatledger.app import App

__all__ = ["open_output", "show_report", "write_file", "write_rows"]

_MOST_ROWS = 2_000


def show_report(report: Report, app: App) -> None:
    """Write a report to standard output, or to the file that -o names."""
    match app.options.format:
        case "csv":
            text = render_csv(report)
        case "json":
            text = render_json(report)
        case _:
            from neatledger.faces.table import render_table

            width = 0 if app.options.output else app.streams.width
            text = render_table(report, width, app.streams.is_colored and not app.options.output)
    with open_output(app) as out:
        out.write(text)


def write_rows(report: Report, rows: Iterable[Sequence[Cell]], app: App) -> None:
    """Write a report of many rows: for machines row by row, for people the first `_MOST_ROWS` of them."""
    if app.options.format == "table":
        taken = list(islice(rows, _MOST_ROWS + 1))
        report.rows = [_with_sizes(report, row) for row in taken[:_MOST_ROWS]]
        if len(taken) > _MOST_ROWS:
            report.notes.append(f"The first {_MOST_ROWS:,} rows; --format csv writes all.")
        show_report(report, app)
        return
    with open_output(app) as out:
        if app.options.format == "csv":
            out.writelines(csv_lines(report, rows))
        else:
            out.writelines(json_lines(report, rows))


def _with_sizes(report: Report, row: Sequence[Cell]) -> Sequence[Cell]:
    return [
        Size(cell) if column.key.endswith("_bytes") and isinstance(cell, int) else cell
        for cell, column in zip(row, report.columns, strict=True)
    ]


@contextmanager
def open_output(app: App) -> Iterator[TextIO]:
    """Open where the result goes; a file appears whole, when all is written, or not at all."""
    if app.options.output is None:
        yield app.streams.out
        return
    with _open_file(app.options.output) as out:
        yield out


def write_file(target: str, data: bytes) -> None:
    """Write a whole file; it appears when all is written, or not at all. Raises `NeatError`."""
    with _open_file(target) as out:
        out.flush()
        out.buffer.write(data)


@contextmanager
def _open_file(name_of_it: str) -> Iterator[TextIO]:
    # What a link points to is written, and a device or a pipe is written to: neither is replaced by a file.
    target = Path(os.path.realpath(name_of_it))
    if target.exists() and not target.is_file():
        try:
            with open(target, "w", encoding="utf-8", newline="") as out:
                yield out
        except OSError as error:
            raise NeatError(f"cannot write: {error.strerror}", str(target)) from None
        return
    try:
        handle, name = tempfile.mkstemp(prefix=f".{target.name}.", dir=target.parent)
    except OSError as error:
        raise NeatError(f"cannot write: {error.strerror}", str(target)) from None
    try:
        with open(handle, "w", encoding="utf-8", newline="") as out:
            yield out
        os.chmod(name, _mode_for(target))
        os.replace(name, target)
    except OSError as error:
        Path(name).unlink(missing_ok=True)
        raise NeatError(f"cannot write: {error.strerror}", str(target)) from None
    except BaseException:
        Path(name).unlink(missing_ok=True)
        raise


def _mode_for(target: Path) -> int:
    """Return the permission bits of a file that is written: those it had, or what is usual for new ones."""
    if target.exists():
        return target.stat().st_mode & 0o777
    usual = os.umask(0)
    os.umask(usual)
    return 0o666 & ~usual
