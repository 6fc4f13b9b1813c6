"""Show a report the way the call asks for: which face, and where to."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import replace
from itertools import islice

from neatledger.errors import UsageError
from neatledger.faces.machine import PARQUET, WRITERS
from neatledger.faces.output import Output, open_output
from neatledger.faces.view import View, shape
from neatledger.reports.assurances import bounded
from neatledger.reports.report import Aside, Cell, MachineNote, Pointer, Report, Row, Size, count_of

__all__ = ["parquet_target", "show_report", "show_rows"]

_MOST_ROWS = 2_000


def show_report(report: Report, output: Output) -> None:
    """Write a report to where the output goes, in its form; raises `UsageError`."""
    # Of many offices it is said of each in one word whether it is in order.
    bear_in_mind(report, output.caveats(report.is_assured or output.collected is not None))
    if report.last is None:
        report.last = output.last(report.is_assured)
    if output.collected is not None:
        output.collected.append(report)
        return
    is_table = output.form not in WRITERS and output.form != PARQUET
    report = shape(report, output.view, for_machines=not is_table)
    if output.form == PARQUET:
        _write_parquet(report, report.rows, output)
        return
    if is_table:
        from neatledger.faces.table import Layout, render_table

        is_file = output.target is not None
        layout = Layout() if is_file else output.layout
        if layout.width and not output.view.is_all and output.view.top is None:
            report = _first_rows(report)
        text = render_table(report, layout)
        if not is_file and output.pager and 0 < output.height <= text.count("\n"):
            from neatledger.faces.pager import show_in_pager

            if show_in_pager(output.pager, text):
                return
    else:
        text = WRITERS[output.form].whole(report)
    with open_output(output) as out:
        out.write(text)


def _first_rows(report: Report) -> Report:
    """Return a report with as many rows as a screen has, and what more there is."""
    left = report.shown[report.most :]
    # One row is no longer than the line that says it is left out.
    if len(left) < 2:
        return report
    words = report.more(left) if report.more is not None else f"{count_of(len(left), 'row')} more"
    pointers = [Pointer(words, report.whole), *report.pointers]
    return replace(report, folded=report.shown[: report.most], pointers=pointers)


def bear_in_mind(report: Report, caveats: Sequence[str]) -> None:
    """Put into a report what was not seen of what it rests on; what says that all is well says that bound itself."""
    report.notes += map(MachineNote, caveats)
    report.is_bounded = bool(caveats)
    if report.is_assured:
        report.headline = bounded(report.headline, caveats)
        if not report.shown:
            report.empty = bounded(report.empty, caveats).rstrip(".")


def _write_parquet(report: Report, rows: Iterable[Row], output: Output) -> None:
    target = parquet_target(output)
    from neatledger.faces.parquet import write_report
    from neatledger.faces.parquet_set import is_set, write_report_set

    if is_set(target):
        write_report_set(report, rows, target, *output.counted())
    else:
        write_report(report, rows, target)


def parquet_target(output: Output) -> str:
    """Return the file that a table goes to that is no text; raises `UsageError`."""
    if output.target is None:
        raise UsageError("parquet is no text: name a file for it", hint="-o FILE.parquet, or -o FOLDER/")
    return output.target


def show_rows(report: Report, rows: Iterable[Row], output: Output) -> None:
    """Write a report of many rows: for machines row by row, for people the first `_MOST_ROWS` of them."""
    is_machine = output.form in WRITERS or output.form == PARQUET
    if is_machine and output.view.sort:
        raise UsageError(
            "so long a table is written as it is worked out, and not sorted", hint="sort what is written"
        )
    if is_machine:
        report = shape(report, View(output.view.columns), for_machines=True)
        rows = islice(rows, output.view.top)
    if output.form == PARQUET:
        _write_parquet(report, rows, output)
        return
    if is_machine:
        writer = WRITERS[output.form]
        bear_in_mind(report, output.caveats(report.is_assured))
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
