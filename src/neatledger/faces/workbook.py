"""A paper as a workbook (ISO/IEC 29500): a sheet a part, sizes as numbers, the same order each time."""

from __future__ import annotations

import io
import re
from typing import TYPE_CHECKING

from neatledger.core.tree.address import Address
from neatledger.faces.page import draw
from neatledger.formats.names import show_address, show_bytes, show_text
from neatledger.reports.paper import Paper, Part
from neatledger.reports.report import Aside, Cell, Column, Portion, Report, Show

if TYPE_CHECKING:
    from openpyxl.worksheet.worksheet import Worksheet

__all__ = ["render_workbook"]

_WIDEST = 60
_FORBIDDEN = re.compile(r"[\\/*?:\[\]]")
_CONTROL = re.compile(r"[\x00-\x08\x0b\x0c\x0e-\x1f]")


def _value(cell: Cell) -> str | int | bool | None:
    match cell:
        case None:
            return None
        case bool() | int():
            return int(cell)
        case Portion():
            return cell.percent
        case Address():
            text = show_address(cell)
        case bytes():
            text = show_bytes(cell)
        case tuple():
            text = show_text(", ".join(cell))
        case _:
            text = show_text(cell)
    # A workbook takes what begins so for a formula: names from outside must not become one.
    text = _CONTROL.sub("", text)
    return f"'{text}" if text[:1] in ("=", "+", "-", "@") and len(text) > 1 else text


def _columns(report: Report) -> list[Column]:
    """Return what a sheet shows: everything but what only people need."""
    return [column for column in report.columns if column.show is not Show.PEOPLE]


# The more a letter gives, the darker its cell.
_SHADES = {
    "n": "ECECEC",
    "v": "ECECEC",
    "d": "ECECEC",
    "x": "DCDCDC",
    "?": "DCDCDC",
    "R": "C9C9C9",
    "C": "8D8D8D",
    "M": "3D3D3D",
}


def _fill_map(sheet: Worksheet, part: Part) -> None:
    """Write a map of access: folders down, people or groups across."""
    from openpyxl.styles import Alignment, Font, PatternFill
    from openpyxl.utils import get_column_letter

    grid = part.grid
    assert grid is not None
    sheet.append(["FOLDER", *(_value(name) for name in grid.columns)])
    for row, cells in zip(grid.rows, grid.cells, strict=True):
        sheet.append([_value(row), *cells])
        for number, text in enumerate(cells, start=2):
            shade = _SHADES.get(text.rpartition("→")[2])
            if shade is not None:
                cell = sheet.cell(sheet.max_row, number)
                cell.fill = PatternFill("solid", fgColor=shade)
                cell.alignment = Alignment(horizontal="center")
                cell.font = Font(color="FFFFFF" if shade in ("8D8D8D", "3D3D3D") else "000000")
    for number in range(1, len(grid.columns) + 2):
        head = sheet.cell(1, number)
        head.font = Font(bold=True)
        head.alignment = Alignment(text_rotation=90 if number > 1 else 0)
        sheet.column_dimensions[get_column_letter(number)].width = 5 if number > 1 else _WIDEST
    sheet.freeze_panes = "B2"
    for at, note in enumerate((part.report.headline, *part.report.notes)):
        sheet.cell(len(grid.rows) + 3 + at, 1, _value(note))


def render_workbook(paper: Paper) -> bytes:
    """Return the workbook's bytes."""
    from openpyxl import Workbook
    from openpyxl.drawing.image import Image
    from openpyxl.styles import Alignment, Font
    from openpyxl.utils import get_column_letter

    book = Workbook()
    first = book.active
    assert first is not None
    first.title = "Summary"
    for line in (paper.title, paper.subtitle, "", *paper.lead, *(["", paper.seal] if paper.seal else [])):
        first.append([_value(line)])
    first["A1"].font = Font(bold=True, size=14)
    first.column_dimensions["A"].width = 110
    for part in paper.parts:
        sheet = book.create_sheet(_FORBIDDEN.sub(" ", part.title)[:31])
        if part.grid is not None:
            _fill_map(sheet, part)
            continue
        columns = _columns(part.report)
        sheet.append([column.head or column.key.replace("_", " ").upper() for column in columns])
        for row in part.report.rows:
            sheet.append([_value(row[column.key]) for column in columns])
        for number, column in enumerate(columns, 1):
            letter = get_column_letter(number)
            sheet[f"{letter}1"].font = Font(bold=True)
            texts = [str(_value(row[column.key]) or "") for row in part.report.rows]
            sheet.column_dimensions[letter].width = min(_WIDEST, max(map(len, [column.head, *texts, "12345678"])) + 2)
            if column.key.endswith("_bytes"):
                for cell in sheet[letter][1:]:
                    cell.number_format = "#,##0"
                    cell.alignment = Alignment(horizontal="right")
        sheet.freeze_panes = "B2"
        below = len(part.report.rows) + 3
        for note in (part.report.headline, *(note for note in part.report.notes if not isinstance(note, Aside))):
            sheet.cell(below, 1, _value(note))
            below += 1
        for figure in part.figures:
            drawn = draw(figure)
            image = Image(io.BytesIO(drawn.png))
            sheet.add_image(image, f"A{below + 1}")
            sheet.cell(below, 1, _value(drawn.words))
            below += 30
    out = io.BytesIO()
    book.save(out)
    return out.getvalue()
