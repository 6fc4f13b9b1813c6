"""A report as a table for people: as wide as the terminal, plain and uncut in a pipe."""

from __future__ import annotations

import io

from rich.cells import cell_len
from rich.console import Console
from rich.table import Table
from rich.text import Text

from neatledger.core.plan import Address
from neatledger.faces.names import show_address, show_bytes, show_text
from neatledger.reports.report import Cell, Column, Report, Show

__all__ = ["cut_middle", "render_table", "show_cell"]

_NARROWEST = 14
_GAP = 2
_PLAIN = 100_000


def show_cell(cell: Cell) -> str:
    """Return a cell as people read it."""
    match cell:
        case None:
            return "?"
        case bool():
            return "yes" if cell else "-"
        case int():
            return f"{cell:,}"
        case bytes():
            return show_bytes(cell)
        case Address():
            return show_address(cell)
        case tuple():
            return show_text(", ".join(cell))
        case _:
            return show_text(cell)


def cut_middle(text: str, width: int) -> str:
    """Cut a text to a width in terminal cells, in the middle: beginnings and ends tell names apart."""
    if cell_len(text) <= width:
        return text
    head, tail = text[: (width - 1) // 2], text[-(width // 2) :]
    while cell_len(head) + cell_len(tail) + 1 > width:
        head, tail = head[:-1], tail[1:]
    return f"{head}…{tail}"


def _fit(columns: list[Column], texts: list[list[str]], width: int) -> list[int]:
    """Return the columns' widths: natural ones where all fits, else the widest that may be cut give way."""
    widths = [
        max([cell_len(column.head), *(cell_len(row[place]) for row in texts)]) for place, column in enumerate(columns)
    ]
    spare = sum(widths) + _GAP * (len(widths) - 1) - width
    while spare > 0:
        candidates = [place for place, column in enumerate(columns) if column.cuts and widths[place] > _NARROWEST]
        if not candidates:
            break
        widest = max(candidates, key=lambda place: widths[place])
        widths[widest] -= 1
        spare -= 1
    return widths


def render_table(report: Report, width: int, is_colored: bool) -> str:
    """Return the report as text; `width` in terminal cells, 0 for no limit."""
    lines = [show_text(report.headline)] if report.headline else []
    if report.rows:
        lines += ["", _render_rows(report, width, is_colored)]
    elif report.empty:
        lines += ["", f"  {report.empty}"]
    if report.notes:
        lines += ["", *(show_text(note) for note in report.notes)]
    return "\n".join(lines).strip("\n") + "\n"


def _render_rows(report: Report, width: int, is_colored: bool) -> str:
    places = [place for place, column in enumerate(report.columns) if column.show is not Show.MACHINE]
    columns = [report.columns[place] for place in places]
    texts = [[show_cell(row[place]) for place in places] for row in report.rows]
    widths = _fit(columns, texts, width or _PLAIN)
    table = Table(box=None, pad_edge=False, padding=(0, _GAP, 0, 0), show_edge=False, header_style="bold")
    for column, wide in zip(columns, widths, strict=True):
        table.add_column(Text(column.head), justify="right" if column.number else "left", no_wrap=True, width=wide)
    for row in texts:
        cells = [
            Text(cut_middle(text, wide) if column.cuts else text)
            for column, text, wide in zip(columns, row, widths, strict=True)
        ]
        table.add_row(*cells)
    out = io.StringIO()
    total = sum(widths) + _GAP * len(widths)
    console = Console(
        file=out, width=max(total, 20), force_terminal=is_colored, color_system="auto" if is_colored else None,
        highlight=False, markup=False, emoji=False, legacy_windows=False,
    )  # fmt: skip
    console.print(table)
    return "\n".join(line.rstrip() for line in out.getvalue().splitlines())
