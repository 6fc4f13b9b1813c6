"""Tables as Apache Parquet: columns with their types, names that repeat once, many rows at a time.

The columns are those of CSV. Addresses are text as CSV has it; what is not known is null; of limits −1 is no limit,
and of days 9999-12-31 no end.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Sequence
from datetime import UTC, date, datetime
from itertools import islice
from typing import Any

import numpy as np
from numpy.typing import NDArray

from neatledger.core.access.everyone import FLAG_RIGHTS, RowBlock, RowFilter, flag_rights
from neatledger.core.lists.rights import Level, Right, level_of
from neatledger.core.space.sizes import NO_LIMIT
from neatledger.core.tree.address import Address
from neatledger.core.tree.table import folder_paths
from neatledger.faces.accesstable import KEYS
from neatledger.faces.machine import machine_columns
from neatledger.faces.parquet_types import TYPES, Kind, set_name
from neatledger.files import open_replacement
from neatledger.formats.names import encode_address, encode_bytes
from neatledger.reports.everyone import AccessRows
from neatledger.reports.report import Cell, Moment, Portion, Report, Row

__all__ = ["column_of", "kind_of", "text_of", "texts_of", "write_access", "write_report"]

_ROWS = 65_536
_TEXTS = ("person", "account", "system", "folder", "way", "level")
_RIGHTS = {
    "enter": Right.ENTER,
    "list": Right.LIST,
    "add": Right.ADD,
    "delete": Right.DELETE,
    "manage": Right.MANAGE,
    "read": Right.READ,
    "view": Right.READ | Right.VIEW,
}


def write_report(report: Report, rows: Iterable[Row], target: str) -> None:
    """Write a report's rows; a column has the type that is declared for it, else that of what its first rows hold."""
    import pyarrow as pa
    import pyarrow.parquet as pq

    keys = machine_columns(report.columns)
    declared = TYPES.get(set_name(report.name, keys), {})
    numbers = {column.key for column in report.columns if column.number}
    waiting = iter(rows)
    batch = list(islice(waiting, _ROWS))
    kinds = {
        key: declared[key].kind if key in declared else kind_of([row[key] for row in batch], key in numbers)
        for key in keys
    }
    columns = [column_of([row[key] for row in batch], kinds[key]) for key in keys]
    schema = pa.schema([(key, column.type) for key, column in zip(keys, columns, strict=True)])
    with open_replacement(target) as out, pq.ParquetWriter(out.buffer, schema) as writer:
        while True:
            writer.write_table(pa.table(columns, schema=schema))
            batch = list(islice(waiting, _ROWS))
            if not batch:
                return
            columns = [column_of([row[key] for row in batch], kinds[key]) for key in keys]


def kind_of(cells: Sequence[Cell], is_number: bool) -> Kind:
    """Return what a column holds; where it holds nothing, a number if its heading is one of numbers."""
    known = [cell for cell in cells if cell is not None and cell != ""]
    if not known:
        return Kind.NUMBER if is_number else Kind.TEXT
    if all(isinstance(cell, bool) for cell in known):
        return Kind.TRUTH
    if all(isinstance(cell, int | Portion) or cell == NO_LIMIT for cell in known):
        return Kind.NUMBER
    if all(isinstance(cell, tuple) for cell in known):
        return Kind.TEXTS
    if all(isinstance(cell, Moment) for cell in known):
        return Kind.MOMENT
    if all(cell == _NO_END or (isinstance(cell, str) and _IS_DAY.fullmatch(cell)) for cell in known):
        return Kind.DAY
    return Kind.TEXT


def column_of(cells: Sequence[Cell], kind: Kind) -> Any:
    """Return the cells of a column as an array of its type; what is not known is null."""
    import pyarrow as pa

    match kind:
        case Kind.NUMBER:
            return pa.array([_number(cell) for cell in cells], pa.int64())
        case Kind.TRUTH:
            return pa.array([cell if isinstance(cell, bool) else None for cell in cells], pa.bool_())
        case Kind.DAY:
            return pa.array([_day(cell) for cell in cells], pa.date32())
        case Kind.MOMENT:
            return pa.array([_moment(cell) for cell in cells], pa.timestamp("us", tz="UTC"))
        case Kind.TEXTS:
            return pa.array([texts_of(cell) for cell in cells], pa.list_(pa.string()))
        case Kind.TEXT:
            return pa.array([text_of(cell) for cell in cells], pa.string())


_WITHOUT_LIMIT, _LAST_DAY = -1, date(9999, 12, 31)
"""What stands for no limit, and for no end."""
_NO_END = "no end"
_IS_DAY = re.compile(r"\d{4}-\d{2}-\d{2}")


def _number(cell: Cell) -> int | None:
    if isinstance(cell, Portion):
        return cell.percent
    if isinstance(cell, str):
        return _WITHOUT_LIMIT if cell == NO_LIMIT else None
    return cell if isinstance(cell, int) else None


def _day(cell: Cell) -> date | None:
    if not isinstance(cell, str) or not cell:
        return None
    try:
        return date.fromisoformat(cell[:10])
    except ValueError:
        return _LAST_DAY if cell == _NO_END else None


def _moment(cell: Cell) -> datetime | None:
    if isinstance(cell, Moment):
        cell = cell.utc
    return datetime.fromisoformat(cell).astimezone(UTC) if isinstance(cell, str) and cell else None


def texts_of(cell: Cell) -> list[str] | None:
    """Return a cell as a list of texts; None where it is none."""
    return [_plain(word) for word in cell] if isinstance(cell, tuple) else None


def text_of(cell: Cell) -> str | None:
    """Return a cell as text; None for what is not known."""
    match cell:
        case None:
            return None
        case bytes():
            return encode_bytes(cell)
        case Address():
            return encode_address(cell)
        case tuple():
            return " ".join(map(_plain, cell))
        case Portion():
            return str(cell.percent)
        case Moment():
            return cell.utc
        case _:
            return _plain(str(cell))


def _plain(text: str) -> str:
    """Carry bytes that were not UTF-8 as percent-encoded ones."""
    try:
        text.encode()
    except UnicodeEncodeError:
        return encode_bytes(text.encode("utf-8", "surrogateescape"))
    return text


def write_access(
    tables: Iterable[AccessRows], which: RowFilter, target: str, more: Sequence[Row] = (), without: Sequence[str] = ()
) -> None:
    """Write the tables of access, block by block; `more` are rows of single files, at the end.

    Columns of `without` are left out.
    """
    import pyarrow as pa
    import pyarrow.parquet as pq

    texts = pa.dictionary(pa.int32(), pa.string())
    kinds = {key: texts if key in _TEXTS else pa.bool_() if key in _RIGHTS else pa.int64() for key in KEYS}
    keys = [key for key in KEYS if key not in without]
    schema = pa.schema([(key, kinds[key]) for key in keys])
    with open_replacement(target) as out, pq.ParquetWriter(out.buffer, schema) as writer:
        for table in tables:
            path_of = folder_paths(table.folders)
            people = _People(table)
            for block in table.blocks(which):
                if len(block.folder):
                    columns = people.columns_of(block, path_of)
                    writer.write_table(pa.table([columns[key] for key in keys], schema=schema))
        if more:
            of_rows = {
                key: Kind.TEXT if key in _TEXTS else Kind.TRUTH if key in _RIGHTS else Kind.NUMBER for key in keys
            }
            columns = {key: column_of([row[key] for row in more], of_rows[key]) for key in keys}
            arrays = [columns[key].dictionary_encode() if key in _TEXTS else columns[key] for key in keys]
            writer.write_table(pa.table(arrays, names=keys).cast(schema))


class _People:
    """The columns of one system's table that say who has what by which way."""

    def __init__(self, table: AccessRows) -> None:
        everyone = table.everyone
        self._system = table.system
        matrix = everyone.matrix
        principals = [[matrix.principals[one] for one in column.principals] for column in everyone.columns]
        self._people = [mine[0].person if mine else "" for mine in principals]
        self._accounts = ["+".join(one.account.login for one in mine) for mine in principals]
        self._ways = [column.way for column in everyone.columns]
        # Of people with a single way the row is there again under `any`, as in CSV.
        single = [
            number < len(everyone.single) and bool(everyone.single[number]) for number in range(len(principals))
        ]
        self._times = np.array([2 if one else 1 for one in single], dtype=np.int64)

    def columns_of(self, block: RowBlock, path_of: Callable[[int], bytes]) -> dict[str, Any]:
        """Return the columns of a block."""
        import pyarrow as pa

        times = self._times[block.column]
        rows = np.repeat(np.arange(len(block.column)), times)
        is_again = np.zeros(len(rows), dtype=bool)
        is_again[1:] = rows[1:] == rows[:-1]
        column, unknown = block.column[rows], np.asarray(block.unknown[rows], dtype=bool)
        folders, which = np.unique(block.folder[rows], return_inverse=True)
        ways = [*dict.fromkeys(self._ways), "any"]
        way_of = np.array([ways.index(way) for way in self._ways])
        flags = block.flags[rows]
        kinds, kind_of = np.unique(flags, return_inverse=True)
        levels = [level_of(flag_rights(int(flag))).value for flag in kinds]
        level_at = np.where(unknown, len(levels), kind_of)
        found: dict[str, Any] = {
            "person": _dictionary(column, self._people),
            "account": _dictionary(column, self._accounts),
            "system": _dictionary(np.zeros(len(rows), dtype=np.int64), [self._system]),
            "folder": _dictionary(
                which, [encode_address(Address(self._system, path_of(row))) for row in folders.tolist()]
            ),
            "way": _dictionary(np.where(is_again, len(ways) - 1, way_of[column]), ways),
            "level": _dictionary(level_at, [*levels, Level.UNKNOWN.value]),
        }
        for key, right in _RIGHTS.items():
            bits = sum(1 << FLAG_RIGHTS.index(one) for one in FLAG_RIGHTS if right & one)
            found[key] = pa.array(flags & bits != 0, pa.bool_(), mask=unknown)
        counts = block.counts
        numbers = {"files": counts.files, "files_read": counts.read, "files_change": counts.change}
        for key, values in {**numbers, "files_delete": counts.delete}.items():
            found[key] = pa.array(values[rows], pa.int64(), mask=values[rows] < 0)
        return found


def _dictionary(places: NDArray[Any], texts: Sequence[str]) -> Any:
    import pyarrow as pa

    indices = pa.array(places.astype(np.int32), pa.int32())
    return pa.DictionaryArray.from_arrays(indices, pa.array([_plain(text) for text in texts], pa.string()))
