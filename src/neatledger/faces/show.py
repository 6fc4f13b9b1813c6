"""Show a report the way the call asks for: which face, and where to."""

from __future__ import annotations

from collections.abc import Iterable
from itertools import islice

from neatledger.faces.machine import WRITERS
from neatledger.faces.output import Output, open_output
from neatledger.reports.report import Aside, Cell, Report, Row, Size

__all__ = ["show_report", "show_rows"]

_MOST_ROWS = 2_000


def show_report(report: Report, output: Output) -> None:
    """Write a report to where the output goes, in its form."""
    report.notes += output.caveats()
    if output.form in WRITERS:
        text = WRITERS[output.form].whole(report)
    else:
        from neatledger.faces.table import render_table

        is_file = output.target is not None
        text = render_table(report, 0 if is_file else output.width, output.is_colored and not is_file)
    with open_output(output) as out:
        out.write(text)


def show_rows(report: Report, rows: Iterable[Row], output: Output) -> None:
    """Write a report of many rows: for machines row by row, for people the first `_MOST_ROWS` of them."""
    if output.form in WRITERS:
        writer = WRITERS[output.form]
        report.notes += output.caveats()
        with open_output(output) as out:
            out.writelines(writer.long(report, rows))
        return
    taken = list(islice(rows, _MOST_ROWS + 1))
    report.rows = [{key: _shown(key, cell) for key, cell in row.items()} for row in taken[:_MOST_ROWS]]
    if len(taken) > _MOST_ROWS:
        report.notes.append(Aside(f"The first {_MOST_ROWS:,} rows; --format csv writes all."))
    show_report(report, output)


def _shown(key: str, cell: Cell) -> Cell:
    return Size(cell) if key.endswith("_bytes") and isinstance(cell, int) else cell
