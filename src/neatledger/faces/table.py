"""A report as a table for people: as wide as the terminal, plain and uncut in a pipe."""

from __future__ import annotations

import textwrap
from collections.abc import Sequence
from itertools import zip_longest

from wcwidth import wcswidth

from neatledger.core.space.sizes import show_share, show_size
from neatledger.core.tree.address import Address
from neatledger.formats.names import show_address, show_bytes, show_text
from neatledger.reports.report import Cell, Column, MachineNote, Portion, Report, Show, Size

__all__ = ["cut_middle", "render_table", "show_cell"]

_TEXT, _NAME, _NARROW_TEXT = 24, 14, 12  # how narrow a column may become
_LONG_NAME = 30
_GAP = 2
_PLAIN = 100_000


def show_cell(cell: Cell) -> str:
    """Return a cell as people read it."""
    match cell:
        case str():
            return show_text(cell)
        case None:
            return "?"
        case bool():
            return "yes" if cell else "-"
        case Size():
            return show_size(cell, binary=cell.is_binary)
        case int():
            return f"{cell:,}"
        case bytes():
            return show_bytes(cell)
        case Address():
            return show_address(cell)
        case tuple():
            return show_text(", ".join(cell))
        case Portion():
            return show_share(cell.part, cell.whole)


def cut_middle(text: str, width: int) -> str:
    """Cut a text to a width in terminal cells, in the middle: beginnings and ends tell names apart."""
    if _wide(text) <= width:
        return text
    head, tail = text[: (width - 1) // 2], text[-(width // 2) :]
    while _wide(head) + _wide(tail) + 1 > width:
        head, tail = head[:-1], tail[1:]
    return f"{head}…{tail}"


def _fit(columns: list[Column], texts: list[list[str]], width: int) -> list[int]:
    """Return the columns' widths: natural ones where all fits, else the widest that may be cut give way."""
    widths = [
        max([_wide(column.head), *(_wide(row[place]) for row in texts)]) for place, column in enumerate(columns)
    ]
    spare = sum(widths) + _GAP * (len(widths) - 1) - width
    # Text that may go over lines gives way first, for nothing of it is lost, and keeps a third of the width where
    # long names can spare it; then names; then text once more.
    for is_text, least in (
        (True, max(_TEXT, width // 3)),
        (False, _LONG_NAME),
        (True, _TEXT),
        (False, _NAME),
        (True, _NARROW_TEXT),
    ):
        places = [place for place, column in enumerate(columns) if (column.wraps if is_text else column.cuts)]
        while spare > 0:
            wide = [place for place in places if widths[place] > least]
            if not wide:
                break
            widths[max(wide, key=lambda place: widths[place])] -= 1
            spare -= 1
    return widths


def render_table(report: Report, width: int, is_colored: bool) -> str:
    """Return the report as text; `width` in terminal cells, 0 for no limit."""
    lines = _over_lines(report.headline, width) if report.headline else []
    if report.shown:
        lines += ["", _render_rows(report, width, is_colored)]
    elif report.empty:
        lines += ["", f"  {report.empty}"]
    notes = [note for note in report.notes if not isinstance(note, MachineNote)]
    if notes:
        lines += ["", *(line for note in notes for line in _over_lines(note, width))]
    return "\n".join(lines).removeprefix("\n") + "\n"


def _over_lines(text: str, width: int) -> list[str]:
    """Return a sentence as lines of a width (0: one line), those after the first as far in as it is, and two more."""
    shown = show_text(text)
    if not width or _wide(shown) <= width:
        return [shown]
    margin = " " * (len(shown) - len(shown.lstrip()))
    rest = margin + "  "
    return textwrap.wrap(shown.strip(), width, initial_indent=margin, subsequent_indent=rest, break_on_hyphens=False)


def _render_rows(report: Report, width: int, is_colored: bool) -> str:
    columns = [column for column in report.columns if column.show is not Show.MACHINE]
    texts = [[show_cell(row[column.key]) for column in columns] for row in report.shown]
    if width and _natural(columns, texts) > width:
        kept = [number for number, column in enumerate(columns) if not column.spare]
        columns, texts = [columns[number] for number in kept], [[row[number] for number in kept] for row in texts]
    widths = _fit(columns, texts, width or _PLAIN)
    head = _line([column.head for column in columns], columns, widths)
    lines = [f"\x1b[1m{head}\x1b[0m" if is_colored else head]
    for row in texts:
        parts = [_part(text, column, wide) for text, column, wide in zip(row, columns, widths, strict=True)]
        for cells in zip_longest(*parts, fillvalue=""):
            lines.append(_line(cells, columns, widths))
    return "\n".join(lines)


def _natural(columns: Sequence[Column], texts: list[list[str]]) -> int:
    """Return how wide the table is when nothing gives way."""
    heads = [column.head for column in columns]
    widths = [max(_wide(cell) for cell in column) for column in zip(heads, *texts, strict=True)]
    return sum(widths) + _GAP * (len(widths) - 1)


def _wide(text: str) -> int:
    """Return how many cells of a terminal a text takes."""
    return len(text) if text.isascii() else max(wcswidth(text), 0)


def _part(text: str, column: Column, width: int) -> list[str]:
    """Return the lines that a cell takes."""
    if (len(text) <= width and text.isascii()) or _wide(text) <= width:
        return [text]
    if column.wraps:
        return textwrap.wrap(text, width, break_on_hyphens=False)
    return [cut_middle(text, width) if column.cuts else text]


def _line(cells: Sequence[str], columns: Sequence[Column], widths: Sequence[int]) -> str:
    padded = [
        " " * (width - _wide(cell)) + cell if column.number else cell + " " * (width - _wide(cell))
        for cell, column, width in zip(cells, columns, widths, strict=True)
    ]
    return (" " * _GAP).join(padded).rstrip()
