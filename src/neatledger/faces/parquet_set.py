"""Tables as a data set of Parquet files, a file for each system of each count, so that counts add up over time.

The folders are named as several programs read them: ``check/system=barn/count=40/part.parquet``. The system stands in
no column of its own then, for it is read from the folder's name. Unlike in a single file, the types are those of
`parquet_types`, whatever the rows hold.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Sequence
from pathlib import Path

from neatledger.core.access.everyone import RowFilter
from neatledger.core.tree.address import Address
from neatledger.faces.machine import machine_columns
from neatledger.faces.parquet import column_of, write_access
from neatledger.faces.parquet_types import TYPES, Declared, Kind, set_name
from neatledger.files import open_replacement
from neatledger.reports.everyone import AccessRows
from neatledger.reports.report import Report, Row

__all__ = ["is_set", "write_access_set", "write_report_set"]

_NOBODYS = "__HIVE_DEFAULT_PARTITION__"
"""The folder of rows that are of no system, as programs that read such folders name it."""
_ADDRESS = re.compile(r"([A-Za-z][A-Za-z0-9_-]*):")
_NAMED = re.compile(r" on ([A-Za-z][A-Za-z0-9_-]*)$")


def is_set(target: str) -> bool:
    """Tell whether a target is a folder, into which a data set is written."""
    return target.endswith("/") or Path(target).is_dir()


def write_report_set(report: Report, rows: Iterable[Row], target: str, count: int, systems: Sequence[str]) -> None:
    """Write a report's rows by the system that each is of."""
    import pyarrow as pa
    import pyarrow.parquet as pq

    keys = [key for key in machine_columns(report.columns) if key != "system"]
    name = set_name(report.name, keys)
    declared = TYPES.get(name, {})
    # What was written before of a system that has no rows by now must not stay.
    by_system: dict[str, list[Row]] = {
        system: [] for system in (*systems, _NOBODYS) if _path(target, name, system, count).exists()
    }
    for row in rows:
        by_system.setdefault(_system_of(row, systems), []).append(row)
    for system, some in by_system.items():
        columns = {
            key: column_of([row[key] for row in some], declared[key].kind if key in declared else Kind.TEXT)
            for key in keys
        }
        fields = [pa.field(key, one.type, metadata=_unit(declared.get(key))) for key, one in columns.items()]
        with open_replacement(_part(target, name, system, count)) as out:
            pq.write_table(pa.table(list(columns.values()), schema=pa.schema(fields)), out.buffer)


def write_access_set(
    tables: Iterable[AccessRows], which: RowFilter, target: str, count: int, more: Sequence[Row]
) -> None:
    """Write the tables of access, each system's by itself."""
    for table in tables:
        mine = [row for row in more if row["system"] == table.system]
        write_access([table], which, str(_part(target, "access", table.system, count)), mine, without=("system",))


def _part(target: str, name: str, system: str, count: int) -> Path:
    path = _path(target, name, system, count)
    path.parent.mkdir(parents=True, exist_ok=True)
    return path


def _path(target: str, name: str, system: str, count: int) -> Path:
    return Path(target) / name / f"system={system}" / f"count={count}" / "part.parquet"


def _system_of(row: Row, systems: Sequence[str]) -> str:
    """Return the system that a row is of: by its column, by the first address in it, or by what it says it is on."""
    named = row.get("system")
    if isinstance(named, str) and named in systems:
        return named
    for cell in row.values():
        if isinstance(cell, Address):
            return cell.system
        if isinstance(cell, str):
            found = _ADDRESS.match(cell) or _NAMED.search(cell)
            if found is not None and found[1] in systems:
                return found[1]
            if cell in systems:
                return cell
    return _NOBODYS


def _unit(declared: Declared | None) -> dict[str, str] | None:
    return {"unit": declared.unit} if declared is not None and declared.unit else None
