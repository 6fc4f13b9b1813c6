"""Reports for machines, one writer a format: CSV (RFC 4180), JSON (RFC 8259) and JSON lines, complete and stable.

Addresses and names that hold anything are percent-encoded; True is 1 in CSV, and what is not known is empty there
and null in JSON. A format is a writer here and its row in `WRITERS`.
"""

from __future__ import annotations

import csv
import json
import re
from collections.abc import Iterable, Iterator, Sequence
from typing import Protocol

from neatledger.core.tree.address import Address
from neatledger.faces.xmlwriter import XmlWriter
from neatledger.formats.names import encode_address, encode_bytes
from neatledger.reports.report import Aside, Cell, Column, Moment, Portion, Report, Row, Show

__all__ = ["PARQUET", "WRITERS", "Writer", "machine_columns"]


class Writer(Protocol):
    """One machine format.

    A long table is made of *pieces*: runs of cells that many rows share, made once and joined.
    """

    between: str
    """What stands between two rows of a long table."""

    def whole(self, report: Report) -> str:
        """Return a report as text."""

    def long(self, report: Report, rows: Iterable[Row]) -> Iterator[str]:
        """Yield the text of a report of many rows, a row at a time; such a report has no notes."""

    def piece(self, keys: Sequence[str], cells: Sequence[Cell]) -> str:
        """Return neighbouring cells of a row as text."""

    def join(self, pieces: Sequence[str]) -> str:
        """Return pieces as what stands between the beginning and the end of a row."""

    def of_pieces(self, name: str, keys: Sequence[str], rows: Iterable[str]) -> Iterator[str]:
        """Yield the text of a long table whose rows are made of pieces; each text may hold many rows."""


def machine_columns(columns: Iterable[Column]) -> list[str]:
    """Return the keys of the columns that machines are shown."""
    return [column.key for column in columns if column.show is not Show.PEOPLE]


def _whole_text(text: str) -> str:
    """Carry bytes that were not UTF-8 (in a login or a name) as percent-encoded ones."""
    if text.isascii():
        return text
    try:
        text.encode()
    except UnicodeEncodeError:
        return encode_bytes(text.encode("utf-8", "surrogateescape"))
    return text


_RUN = frozenset("=+-@\t\r")
# Amounts with their unit are no formulas, and neither is one sign alone.
_NUMBER = re.compile(r"[-+]?[0-9][0-9.,]*( ?[%A-Za-z]+)?|.")


def _as_text(text: str) -> str:
    """Keep a spreadsheet from running a text as a formula: an apostrophe before it makes it a text there."""
    return f"'{text}" if text[:1] in _RUN and not _NUMBER.fullmatch(text) else text


class _Line:
    """Takes what a CSV writer writes, a line at a time."""

    text = ""

    def write(self, text: str) -> None:
        self.text = text


class CsvWriter:
    """Comma-separated values with a heading line."""

    between = "\n"

    def __init__(self) -> None:
        self._line = _Line()
        # The writer quotes what its own line end holds: so with both characters, though lines end in one.
        self._writer = csv.writer(self._line, lineterminator="\r\n")

    def _fields(self, cells: Iterable[str | int]) -> str:
        self._writer.writerow(cells)
        return self._line.text[:-2]

    @staticmethod
    def _cell(cell: Cell) -> str | int:
        if cell.__class__ is int:
            # By far the most, in long tables.
            return cell
        if cell.__class__ is str:
            is_plain = cell.isascii() and cell[:1] not in _RUN
            return cell if is_plain else _as_text(_whole_text(cell))
        match cell:
            case None:
                return ""
            case bool():
                return int(cell)
            case int():
                return cell
            case bytes():
                return encode_bytes(cell)
            case Address():
                return encode_address(cell)
            case tuple():
                return _as_text(" ".join(_whole_text(each) for each in cell))
            case Portion():
                return cell.percent
            case Moment():
                return cell.utc
            case _:
                return _as_text(_whole_text(cell))

    def whole(self, report: Report) -> str:
        """Return a report as text."""
        return "".join(self.long(report, report.rows))

    def long(self, report: Report, rows: Iterable[Row]) -> Iterator[str]:
        """Yield the lines, the heading first."""
        keys = machine_columns(report.columns)
        yield self._fields(keys) + "\n"
        for row in rows:
            yield self._fields([self._cell(row[key]) for key in keys]) + "\n"

    def piece(self, keys: Sequence[str], cells: Sequence[Cell]) -> str:
        """Return neighbouring fields."""
        # A line that is one empty field would be quoted: so it is never alone.
        return self._fields(["-", *map(self._cell, cells)])[2:]

    def join(self, pieces: Sequence[str]) -> str:
        """Return a line of pieces."""
        return ",".join(pieces)

    def of_pieces(self, name: str, keys: Sequence[str], rows: Iterable[str]) -> Iterator[str]:
        """Yield the lines, the heading first."""
        yield self._fields(keys) + "\n"
        for text in rows:
            yield text + "\n"


class JsonWriter:
    """One JSON object with the report's name, its rows, and for those of a usual size headline and notes."""

    between = "},\n{"

    @staticmethod
    def _cell(cell: Cell) -> str | int | bool | list[str] | None:
        match cell:
            case None | bool() | int():
                return cell
            case bytes():
                return encode_bytes(cell)
            case Address():
                return encode_address(cell)
            case tuple():
                return [_whole_text(each) for each in cell]
            case Portion():
                return cell.percent
            case Moment():
                return cell.utc
            case _:
                return _whole_text(cell)

    def whole(self, report: Report) -> str:
        """Return a report as one object: ``report``, ``headline``, ``rows``, ``notes``."""
        keys = machine_columns(report.columns)
        found = {
            "report": report.name,
            "headline": _whole_text(report.headline),
            "rows": [{key: self._cell(row[key]) for key in keys} for row in report.rows],
            "notes": [_whole_text(note) for note in report.notes if not isinstance(note, Aside)],
        }
        return json.dumps(found, ensure_ascii=False, indent=1) + "\n"

    def long(self, report: Report, rows: Iterable[Row]) -> Iterator[str]:
        """Yield the text, a row a line."""
        keys = machine_columns(report.columns)
        head = {"report": report.name, "headline": _whole_text(report.headline)}
        yield json.dumps(head, ensure_ascii=False)[:-1]
        before = ', "rows": [\n'
        for row in rows:
            yield before + json.dumps({key: self._cell(row[key]) for key in keys}, ensure_ascii=False)
            before = ",\n"
        yield ("\n]}" if before == ",\n" else before + "]}") + "\n"

    def piece(self, keys: Sequence[str], cells: Sequence[Cell]) -> str:
        """Return neighbouring members of an object."""
        members = {key: self._cell(cell) for key, cell in zip(keys, cells, strict=True)}
        return json.dumps(members, ensure_ascii=False)[1:-1]

    def join(self, pieces: Sequence[str]) -> str:
        """Return the members of an object."""
        return ", ".join(pieces)

    def of_pieces(self, name: str, keys: Sequence[str], rows: Iterable[str]) -> Iterator[str]:
        """Yield the text, a row a line."""
        yield f'{{"report": {json.dumps(name)}, "rows": [\n'
        before = "{"
        for text in rows:
            yield before + text
            before = self.between
        yield ("}\n" if before == self.between else "") + "]}\n"


class JsonLinesWriter(JsonWriter):
    """A JSON object a row, each on a line of its own, and nothing else."""

    between = "}\n{"

    def whole(self, report: Report) -> str:
        """Return the rows of a report."""
        return "".join(self.long(report, report.rows))

    def long(self, report: Report, rows: Iterable[Row]) -> Iterator[str]:
        """Yield a line for each row."""
        keys = machine_columns(report.columns)
        for row in rows:
            yield json.dumps({key: self._cell(row[key]) for key in keys}, ensure_ascii=False) + "\n"

    def of_pieces(self, name: str, keys: Sequence[str], rows: Iterable[str]) -> Iterator[str]:
        """Yield a line for each row."""
        for text in rows:
            yield "{" + text + "}\n"


WRITERS: dict[str, Writer] = {
    "csv": CsvWriter(),
    "json": JsonWriter(),
    "jsonl": JsonLinesWriter(),
    "xml": XmlWriter(),
}
"""The machine formats that are text, by the word that asks for them."""
PARQUET = "parquet"
"""The one that is none: see `faces.parquet`."""
