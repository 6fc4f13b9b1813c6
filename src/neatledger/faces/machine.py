"""A report as CSV (RFC 4180) or JSON (RFC 8259): complete, stable, percent-encoded addresses."""

from __future__ import annotations

import csv
import json
from collections.abc import Iterable, Iterator, Sequence

from neatledger.core.tree.address import Address
from neatledger.formats.names import encode_address, encode_bytes
from neatledger.reports.report import Cell, Report, Show

__all__ = ["csv_field", "csv_lines", "json_lines", "render_csv", "render_json", "whole_text"]


def _machine_columns(report: Report) -> list[int]:
    return [place for place, column in enumerate(report.columns) if column.show is not Show.PEOPLE]


def _csv_cell(cell: Cell) -> str | int:
    if cell.__class__ is int:
        # By far the most, in long tables.
        return cell
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
            return " ".join(whole_text(each) for each in cell)
        case _:
            return whole_text(cell)


def whole_text(text: str) -> str:
    """Carry bytes that were not UTF-8 (in a login or a name) as percent-encoded ones."""
    try:
        text.encode()
    except UnicodeEncodeError:
        return encode_bytes(text.encode("utf-8", "surrogateescape"))
    return text


def _json_cell(cell: Cell) -> str | int | bool | list[str] | None:
    match cell:
        case None | bool() | int():
            return cell
        case bytes():
            return encode_bytes(cell)
        case Address():
            return encode_address(cell)
        case tuple():
            return [whole_text(each) for each in cell]
        case _:
            return whole_text(cell)


class _Line:
    """Takes what a CSV writer writes, a line at a time."""

    text = ""

    def write(self, text: str) -> None:
        self.text = text


_line = _Line()
# The writer quotes what its own line end holds: so with both characters, though lines end in one.
_writer = csv.writer(_line, lineterminator="\r\n")


def _csv_line(cells: Iterable[str | int]) -> str:
    _writer.writerow(cells)
    return _line.text[:-2]


def csv_field(text: str) -> str:
    """Return one field as CSV has it, quoted where that is needed."""
    return _csv_line([text])


def csv_lines(report: Report, rows: Iterable[Sequence[Cell]]) -> Iterator[str]:
    """Yield the lines of a report as CSV, its heading first; True is 1, unknown is empty."""
    places = _machine_columns(report)
    yield _csv_line(report.columns[place].key for place in places) + "\n"
    for row in rows:
        yield _csv_line(_csv_cell(row[place]) for place in places) + "\n"


def render_csv(report: Report) -> str:
    """Return the report as CSV with a heading line; True is 1, unknown is empty."""
    return "".join(csv_lines(report, report.rows))


def json_lines(report: Report, rows: Iterable[Sequence[Cell]]) -> Iterator[str]:
    """Yield a report as one JSON object, a row a line."""
    places = _machine_columns(report)
    keys = [report.columns[place].key for place in places]
    yield json.dumps({"report": report.name, "headline": whole_text(report.headline)}, ensure_ascii=False)[:-1]
    before = ', "rows": [\n'
    for row in rows:
        one = {key: _json_cell(row[place]) for key, place in zip(keys, places, strict=True)}
        yield before + json.dumps(one, ensure_ascii=False)
        before = ",\n"
    yield ("\n]}" if before == ",\n" else before + "]}") + "\n"


def _json_rows(report: Report, places: Sequence[int]) -> list[dict[str, object]]:
    keys = [report.columns[place].key for place in places]
    return [{key: _json_cell(row[place]) for key, place in zip(keys, places, strict=True)} for row in report.rows]


def render_json(report: Report) -> str:
    """Return the report as one JSON object: ``report``, ``headline``, ``rows``, ``notes``."""
    found = {
        "report": report.name,
        "headline": whole_text(report.headline),
        "rows": _json_rows(report, _machine_columns(report)),
        "notes": [whole_text(note) for note in report.notes],
    }
    return json.dumps(found, ensure_ascii=False, indent=1) + "\n"
