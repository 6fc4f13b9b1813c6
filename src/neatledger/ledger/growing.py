"""The tables of a system with one folder more, or one less, or only some; rows stay breadth-first."""

from __future__ import annotations

from bisect import bisect_left
from collections.abc import Mapping
from typing import Any

import numpy as np
from numpy.typing import NDArray

from neatledger.core.tree.columns import COLUMNS
from neatledger.core.tree.table import Column, Table

__all__ = ["TABLES", "cut_to", "with_folder", "without_folder"]

TABLES = ("folders", "classes", "odd", "hard", "others", "large", "collisions", "totals")
"""The tables that speak of folders by their rows."""

# Columns whose numbers are rows of folders.
_ROWS = {"folders": ("parent", "first_child"), "totals": ()}


def with_folder(
    tables: Mapping[str, Table], parent: int, name: bytes, numbers: Mapping[str, int]
) -> dict[str, Table]:
    """Return the tables with a new, empty folder in another; `numbers` are its list, default list and owner."""
    folders = tables["folders"]
    first, children = folders["first_child"], folders["children"]
    if children[parent]:
        low = int(first[parent])
        row = bisect_left(folders.texts("name"), name, low, low + int(children[parent]))
    else:
        # In front of the children of the next folder that has any.
        later = np.flatnonzero(children[parent + 1 :])
        row = int(first[parent + 1 + later[0]]) if len(later) else folders.rows
    fresh: dict[str, Any] = {"name": name, "parent": parent, "first_child": folders.rows + 1, **numbers}
    found = {}
    for key, table in tables.items():
        columns: dict[str, Column] = {}
        for column, dtype in COLUMNS[key].items():
            old = table.columns[column]
            if isinstance(old, np.ndarray):
                values = _shifted(old, row, 1) if _is_row(key, column) else old
                columns[column] = (
                    np.insert(values, row, fresh.get(column, 0)).astype(dtype) if key in _ROWS else values
                )
            else:
                columns[column] = [*old[:row], fresh[column], *old[row:]] if key in _ROWS else old
        found[key] = Table(columns, table.rows + (key in _ROWS))
    folders = found["folders"]
    # What stands above keeps its row, for it comes before; its own children begin where they did.
    folders["children"][parent] += 1
    folders["first_child"][parent] = first[parent] if children[parent] else row
    return found


def without_folder(tables: Mapping[str, Table], row: int) -> dict[str, Table]:
    """Return the tables without an empty folder."""
    parent = int(tables["folders"]["parent"][row])
    begins = int(tables["folders"]["first_child"][parent])
    found = {}
    for key, table in tables.items():
        columns: dict[str, Column] = {}
        for column in COLUMNS[key]:
            old = table.columns[column]
            if isinstance(old, np.ndarray):
                kept = np.delete(old, row) if key in _ROWS else old
                columns[column] = _shifted(kept, row + 1, -1) if _is_row(key, column) else kept
            else:
                columns[column] = [*old[:row], *old[row + 1 :]] if key in _ROWS else old
        found[key] = Table(columns, table.rows - (key in _ROWS))
    folders = found["folders"]
    folders["children"][parent] -= 1
    folders["first_child"][parent] = begins
    return found


def _is_row(table: str, column: str) -> bool:
    return column in _ROWS[table] if table in _ROWS else column == "folder"


def _shifted(rows: NDArray[Any], at: int, by: int) -> NDArray[Any]:
    return np.where(rows >= at, rows + by, rows).astype(rows.dtype)


def cut_to(tables: Mapping[str, Table], kept: NDArray[np.int64]) -> dict[str, Table]:
    """Return some folders alone, with their files by class and by name: rows in order, with all above each."""
    folders = tables["folders"]
    columns: dict[str, Column] = {}
    for column in COLUMNS["folders"]:
        old = folders.columns[column]
        columns[column] = old[kept] if isinstance(old, np.ndarray) else [old[row] for row in kept.tolist()]
    parent = np.where(folders["parent"][kept] < 0, -1, np.searchsorted(kept, np.maximum(folders["parent"][kept], 0)))
    children = np.bincount(parent[parent >= 0], minlength=len(kept))
    # Children are neighbours and in the order of their parents, among some as among all.
    columns |= {"parent": parent.astype("i4"), "children": children.astype("i4")}
    columns["first_child"] = (1 + np.cumsum(children) - children).astype("i4")
    found = {}
    for key, first, count in (("classes", "first_class", "classes"), ("odd", "first_odd", "odds")):
        sizes, begins = folders[count][kept].astype(np.int64), folders[first][kept].astype(np.int64)
        starts = np.cumsum(sizes) - sizes
        rows = np.repeat(begins - starts, sizes) + np.arange(int(sizes.sum()))
        parts: dict[str, Column] = {}
        for column in COLUMNS[key]:
            old = tables[key].columns[column]
            parts[column] = old[rows] if isinstance(old, np.ndarray) else [old[row] for row in rows.tolist()]
        parts["folder"] = np.repeat(np.arange(len(kept)), sizes).astype("i4")
        columns[first] = starts.astype("i4")
        found[key] = Table(parts, len(rows))
    return {"folders": Table(columns, len(kept)), **found}
