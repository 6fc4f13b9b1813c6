"""A pack of questions as a workbook (ISO/IEC 29500), and as it comes back: one sheet, a row a question."""

from __future__ import annotations

import io
from collections import Counter
from contextlib import closing
from datetime import date, datetime
from typing import Any

from neatledger.core.reviews.pack import (
    AS_PLANNED,
    CHANGEABLE,
    LESS,
    MORE,
    Answer,
    AnsweredRow,
    Choice,
    Pack,
    PackRow,
)
from neatledger.counting import count_of
from neatledger.errors import FormatError
from neatledger.formats.archives import UNREADABLE, check_archive
from neatledger.formats.names import show_address, show_text

__all__ = ["LEVELS_IN_WORDS", "cells_of", "lead_of", "read_answer", "write_pack"]

_SHEET = "Review"
_FIXED = ("BESIDE THE PLAN", "FOLDER", "NAME", "MAY", "THROUGH", "PLANNED", "SINCE", "LAST SIGN-IN")
_FORMER = ("FOLDER", "PERSON", "NAME", "CAN", "BY", "SINCE", "LAST SIGN-IN", "THE PLAN SAYS")
"""The headings of packs that were given out before."""
_USED = "LAST USED"
"""Stands only in packs of folders of whose use anything is known."""
_OPEN = ("DECISION", "CHANGE TO", "REMARK")
_TOKEN = "ROW"
_WIDTHS = {"BESIDE THE PLAN": 12, "FOLDER": 30, "NAME": 24, "MAY": 18, "THROUGH": 30, "PLANNED": 18, "REMARK": 30}
_NAME, _DAY, _PACK = "Decided by:", "Date:", "Pack:"
_HEAD_ROW = 8
_MOST_BYTES, _MOST_ROWS, _MOST_COLUMNS = 1 << 26, 200_000, 64
"""What a workbook may hold, unpacked: some hundred thousand questions."""


def cells_of(row: PackRow) -> dict[str, str]:
    """Return what is written of a row, by heading; what a sheet would take for a formula has a mark before it.

    A row of a pack of before has the headings and words of then.
    """
    if row.place:
        words = (row.beside, row.place, row.name, row.may, row.by, row.may_planned, row.since, row.signed_in)
        written = dict(zip(_FIXED, map(_plain, words), strict=True))
        return {**written, _USED: row.last_used} if row.last_used else written
    planned = row.planned.value if row.planned.value != "none" else "nothing"
    words = (
        show_address(row.folder),
        row.person,
        row.name,
        row.level.value,
        row.by,
        row.since,
        row.signed_in,
        planned,
    )
    found = dict(zip(_FORMER, map(_plain, words), strict=True))
    return {**found, _USED: row.last_used} if row.last_used else found


def _plain(text: str) -> str:
    shown = show_text(text)
    return f"'{shown}" if shown[:1] in ("=", "+", "-", "@") and len(shown) > 1 else shown


LEVELS_IN_WORDS = (
    "list: see names; view: look only; add-only: add, not read; read; write; manage: also decide who may"
)
"""The levels that a row may be changed to, as those read them who decide."""


def lead_of(pack: Pack) -> list[str]:
    """Return what is to be said before the rows of a pack: how many there are of which sort, and what happens."""
    counts = Counter(row.beside for row in pack.rows)
    more, less, planned = (counts[word] for word in (MORE, LESS, AS_PLANNED))
    words = [f"{count_of(len(pack.rows), 'row')}."]
    words += [f"{more} {_has(more)} more than the plan says: decide these first."] if more else []
    words += [f"{less} {_has(less)} less."] if less else []
    words += (
        [f"{planned} {'is' if planned == 1 else 'are'} as planned: remove who no longer needs it."] if planned else []
    )
    return [
        " ".join(words),
        "Of each row choose keep, remove, or change (and to what). "
        "Nothing changes today: the administrator looks first.",
    ]


def _has(number: int) -> str:
    return "has" if number == 1 else "have"


def write_pack(pack: Pack, office: str, when: str, decider: str) -> bytes:
    """Return the workbook of a pack; `when` is the moment of its count, `decider` the name of whom it is for."""
    from openpyxl import Workbook
    from openpyxl.styles import Alignment, Border, Font, PatternFill, Side
    from openpyxl.utils import get_column_letter
    from openpyxl.worksheet.datavalidation import DataValidation

    book = Workbook()
    sheet: Any = book.active
    sheet.title = _SHEET
    fixed = [*_FIXED, *([_USED] if any(row.last_used for row in pack.rows) else [])]
    heads = [*fixed, *_OPEN, _TOKEN]
    counted, what_to_do = lead_of(pack)
    lines: list[list[str]] = [
        [_plain(f"{office}: who may stay? For {decider}")],
        [counted],
        [f"{what_to_do} Counted {when}. Please leave the other cells as they are. {LEVELS_IN_WORDS}."],
        [_NAME, ""],
        [_DAY, ""],
        [_PACK, pack.id],
        [],
        heads,
    ]
    for line in lines:
        sheet.append(line)
    for row in pack.rows:
        cells = cells_of(row)
        sheet.append([*(cells.get(head, "") for head in fixed), "", "", "", row.token])
    open_fill, thin = PatternFill("solid", fgColor="F2F2F2"), Side(style="thin", color="888888")
    sheet["A1"].font = Font(bold=True, size=14)
    for cell in (sheet["B4"], sheet["B5"]):
        cell.fill, cell.border = open_fill, Border(bottom=thin)
    last = _HEAD_ROW + len(pack.rows)
    for number, head in enumerate(heads, start=1):
        letter = get_column_letter(number)
        sheet[f"{letter}{_HEAD_ROW}"].font = Font(bold=True)
        sheet.column_dimensions[letter].width = _WIDTHS.get(head, 14)
        for at in range(_HEAD_ROW + 1, last + 1):
            cell = sheet[f"{letter}{at}"]
            cell.alignment = Alignment(wrap_text=True, vertical="top")
            if head in _OPEN:
                cell.fill, cell.border = open_fill, Border(bottom=thin)
    for head, words in (
        ("DECISION", [one.value for one in Choice]),
        ("CHANGE TO", [one.value for one in CHANGEABLE]),
    ):
        choice = DataValidation(type="list", formula1=f'"{",".join(words)}"', allow_blank=True)
        letter = get_column_letter(heads.index(head) + 1)
        choice.add(f"{letter}{_HEAD_ROW + 1}:{letter}{max(last, _HEAD_ROW + 1)}")
        sheet.add_data_validation(choice)
    sheet.freeze_panes = f"C{_HEAD_ROW + 1}"
    sheet.page_setup.orientation, sheet.page_setup.fitToWidth, sheet.page_setup.fitToHeight = "landscape", 1, 0
    sheet.sheet_properties.pageSetUpPr.fitToPage = True
    sheet.print_title_rows = f"{_HEAD_ROW}:{_HEAD_ROW}"
    out = io.BytesIO()
    book.save(out)
    return out.getvalue()


def read_answer(data: bytes, where: str) -> Answer:
    """Return what a workbook that came back holds; raises `FormatError` where it is no pack."""
    rows = _rows_of(data, where)
    told = {row[0]: row[1] for row in rows[:_HEAD_ROW] if len(row) > 1 and row[0] in (_NAME, _DAY, _PACK)}
    at = next((place for place, row in enumerate(rows) if _TOKEN in row and "FOLDER" in row), None)
    if at is None or _PACK not in told:
        raise FormatError("its headings are not those of a pack", where)
    heads = rows[at]
    fixed = _FORMER if "THE PLAN SAYS" in heads else _FIXED
    lacking = [head for head in (*fixed, *_OPEN, _TOKEN) if heads.count(head) != 1]
    if lacking:
        raise FormatError(f"the column {lacking[0]} is missing, or there twice", where)
    answered = []
    for number, row in enumerate(rows[at + 1 :], start=at + 2):
        cells = dict(zip(heads, row, strict=False))
        if any(row):
            answered.append(
                AnsweredRow(
                    cells[_TOKEN].strip(),
                    {
                        head: cells[head]
                        for head in (*fixed, _USED)
                        if head in cells and (head != _USED or cells[head])
                    },
                    cells["DECISION"].strip().casefold(),
                    cells["CHANGE TO"].strip().casefold(),
                    cells["REMARK"].strip(),
                    f"row {number}",
                )
            )
    return Answer(told[_PACK].strip(), told.get(_NAME, "").strip(), told.get(_DAY, "").strip(), answered)


def _rows_of(data: bytes, where: str) -> list[list[str]]:
    """Return the cells of the sheet with the questions; raises `FormatError`."""
    from openpyxl import load_workbook

    try:
        check_archive(io.BytesIO(data), _MOST_BYTES)
        # Row by row: a sheet may say that it has cells at its far end, and all between would be made.
        with closing(load_workbook(io.BytesIO(data), read_only=True)) as book:
            if _SHEET not in book.sheetnames:
                raise FormatError(f"no sheet {_SHEET!r}: not a pack of questions")
            sheet = book[_SHEET]
            rows: list[list[str]] = []
            # How large it is others than its maker may say wrongly.
            sheet.reset_dimensions()
            for row in sheet.iter_rows(max_col=_MOST_COLUMNS, values_only=True):
                if len(rows) == _MOST_ROWS:
                    raise FormatError(f"more than {_MOST_ROWS:,} rows: no pack has so many")
                rows.append([_text(cell) for cell in row])
            return rows
    except FormatError as error:
        raise FormatError(f"not a workbook that can be read: {error.what}", where) from None
    except UNREADABLE as error:
        message = f"not a whole workbook ({type(error).__name__}): save it once more, or ask for the pack again"
        raise FormatError(message, where) from None


def _text(cell: object) -> str:
    if cell is None:
        return ""
    if isinstance(cell, datetime):
        return cell.date().isoformat()
    return cell.isoformat() if isinstance(cell, date) else str(cell)
