"""A report as CSV (RFC 4180) or JSON (RFC 8259): complete, stable, percent-encoded addresses."""

from __future__ import annotations

import csv
import io
import json
from collections.abc import Iterable, Sequence

from neatledger.core.plan import Address
from neatledger.faces.names import encode_address, encode_bytes
from neatledger.reports.report import Cell, Report, Show

__all__ = ["csv_field", "render_csv", "render_json", "whole_text"]


def _machine_columns(report: Report) -> list[int]:
    return [place for place, column in enumerate(report.columns) if column.show is not Show.PEOPLE]


def _csv_cell(cell: Cell) -> str | int:
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


def _csv_line(cells: Iterable[str | int]) -> str:
    # The writer quotes what its own line end holds: so with both characters, though lines end in one.
    out = io.StringIO()
    csv.writer(out, lineterminator="\r\n").writerow(cells)
    return out.getvalue()[:-2]


def csv_field(text: str) -> str:
    """Return one field as CSV has it, quoted where that is needed."""
    return _csv_line([text])


def render_csv(report: Report) -> str:
    """Return the report as CSV with a heading line; True is 1, unknown is empty."""
    places = _machine_columns(report)
    lines = [_csv_line(report.columns[place].key for place in places)]
    lines += [_csv_line(_csv_cell(row[place]) for place in places) for row in report.rows]
    return "\n".join(lines) + "\n"


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
