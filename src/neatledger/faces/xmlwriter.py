"""Reports as XML 1.0: an element a row, in it one a column, under the same names as in the other machine formats.

What is not known has an attribute ``unknown`` and no text; of several values each has an element of its own.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator, Sequence
from functools import cache
from html import escape

from neatledger.core.tree.address import Address
from neatledger.formats.names import encode_address, encode_bytes
from neatledger.reports.report import Aside, Cell, Column, Moment, Portion, Report, Row, Show

__all__ = ["XmlWriter"]

_HEAD = '<?xml version="1.0" encoding="UTF-8"?>\n'


# Compiled when the first text is written: whoever wants no XML need not wait for it.
@cache
def _barred() -> re.Pattern[str]:
    # XML 1.0 section 2.2: what no document may hold, however it is written.
    return re.compile("[^\t\n\r\u0020-\ud7ff\ue000-\ufffd\U00010000-\U0010ffff]")


def _text(text: str) -> str:
    if _barred().search(text):
        text = encode_bytes(text.encode("utf-8", "surrogateescape"))
    # A bare carriage return would come back as a line feed (section 2.11).
    return escape(text, quote=False).replace("\r", "&#13;")


def _element(key: str, cell: Cell) -> str:
    match cell:
        case None:
            return f'<{key} unknown="true"/>'
        case bool():
            text = "true" if cell else "false"
        case int():
            text = str(cell)
        case bytes():
            text = _text(encode_bytes(cell))
        case Address():
            text = _text(encode_address(cell))
        case tuple():
            return "".join(f"<{key}>{_text(each)}</{key}>" for each in cell) or f"<{key}/>"
        case Portion():
            text = str(cell.percent)
        case Moment():
            text = cell.utc
        case _:
            text = _text(cell)
    return f"<{key}>{text}</{key}>" if text else f"<{key}/>"


def _keys(columns: Iterable[Column]) -> list[str]:
    return [column.key for column in columns if column.show is not Show.PEOPLE]


class XmlWriter:
    """One document a report."""

    between = "</row>\n<row>"

    def whole(self, report: Report) -> str:
        """Return a report as one document: its rows, between its headline and its notes."""
        notes = "".join(f"<note>{_text(note)}</note>\n" for note in report.notes if not isinstance(note, Aside))
        text = "".join(self.long(report, report.rows))
        return text.removesuffix("</report>\n") + notes + "</report>\n"

    def long(self, report: Report, rows: Iterable[Row]) -> Iterator[str]:
        """Yield the text, a row a line."""
        keys = _keys(report.columns)
        yield f'{_HEAD}<report name="{escape(report.name)}">\n<headline>{_text(report.headline)}</headline>\n'
        for row in rows:
            yield f"<row>{self.piece(keys, [row[key] for key in keys])}</row>\n"
        yield "</report>\n"

    def piece(self, keys: Sequence[str], cells: Sequence[Cell]) -> str:
        """Return neighbouring elements of a row."""
        return "".join(_element(key, cell) for key, cell in zip(keys, cells, strict=True))

    def join(self, pieces: Sequence[str]) -> str:
        """Return the elements of a row."""
        return "".join(pieces)

    def of_pieces(self, name: str, keys: Sequence[str], rows: Iterable[str]) -> Iterator[str]:
        """Yield the text, a row a line."""
        yield f'{_HEAD}<report name="{escape(name)}">\n'
        for text in rows:
            yield f"<row>{text}</row>\n"
        yield "</report>\n"
