"""Whether what a count keeps of a system fits together: asked of one that was made elsewhere, before it is taken."""

from __future__ import annotations

import struct
from collections.abc import Iterator

import numpy as np

from neatledger.core.tree.columns import COLUMNS
from neatledger.core.tree.table import Table
from neatledger.errors import LedgerError
from neatledger.ledger.reader import SurveyReader

__all__ = ["check_sound"]


def check_sound(reader: SurveyReader, folders: int) -> None:
    """Raise `LedgerError` where anything of a survey cannot be read, or refers to what is not there."""
    try:
        faults = list(_faults(reader, folders))
    except (ValueError, KeyError, IndexError, TypeError, OverflowError, AttributeError, struct.error) as error:
        faults = [f"it cannot be read: {error}"]
    if faults:
        raise LedgerError(f"its part of {reader.system} does not fit together: {faults[0]}", hint=_HINT)


_TABLES = [name for name, columns in COLUMNS.items() if set(columns.values()) != {"bytes"}]
_HINT = "count again where it was made, with this version"


def _faults(reader: SurveyReader, folders: int) -> Iterator[str]:
    # To be read is enough: each raises where it says what it cannot mean.
    for part in ("terms", "found_accounts", "not_seen", "shared"):
        getattr(reader, part)
    lists = len(reader.strings("lists.body"))
    sizes = {"folder": folders, "parent": folders, "list": lists, "default": lists}
    sizes |= {"owner": len(reader.idents()), "kind": len(reader.strings("kinds.word"))}
    for name in _TABLES:
        yield from _missing_columns(reader, name)
        table = reader.table(name)
        if name == "folders" and table.rows != folders:
            yield f"it has {table.rows} folders, and says {folders}"
            return
        yield from _faults_of_table(name, table, sizes)
    yield from _faults_of_tree(reader.table("folders"), {name: reader.table(name).rows for name in _TABLES})


def _missing_columns(reader: SurveyReader, name: str) -> Iterator[str]:
    """Say which columns of a table are left out where others are there: they would be taken for all zeros."""
    there = {column for column in COLUMNS[name] if reader.chunk_count(f"{name}.{column}")}
    if there:
        yield from (f"its column {name}.{column} is left out" for column in COLUMNS[name] if column not in there)


def _faults_of_table(name: str, table: Table, sizes: dict[str, int]) -> Iterator[str]:
    for column, dtype in COLUMNS[name].items():
        found = table.texts(column) if dtype == "bytes" else table[column]
        if len(found) != table.rows:
            yield f"{name}.{column} has {len(found)} rows of {table.rows}"
        # A root has no folder above it, and some things no list, owner or kind: these are below zero.
        elif column in sizes and table.rows and dtype != "bytes" and int(table[column].max()) >= sizes[column]:
            yield f"{name}.{column} refers to what is not there"


def _faults_of_tree(folders: Table, rows: dict[str, int]) -> Iterator[str]:
    """Say what is wrong with the order of folders: breadth first, what is in one in one run, none in two."""
    if not folders.rows:
        return
    own = np.arange(folders.rows)
    parent, first, children = folders["parent"], folders["first_child"], folders["children"]
    if (parent[1:] < 0).any() or (parent[1:] >= own[1:]).any():
        yield "a folder lies in one that comes after it"
        return
    if (children < 0).any() or not np.array_equal(np.bincount(parent[1:], minlength=folders.rows), children):
        yield "a folder does not have the folders that lie in it"
        return
    has = children > 0
    if (first[has] <= own[has]).any() or (first[has] + children[has] > folders.rows).any():
        yield "a folder's subfolders are not where it says"
        return
    if not np.array_equal(parent[first[has]], own[has]) or (np.diff(parent[1:]) < 0).any():
        yield "the folders are not in their order"
    for start, number, name in (("first_class", "classes", "classes"), ("first_odd", "odds", "odd")):
        ends = folders[start].astype(np.int64) + folders[number]
        if (folders[number] < 0).any() or (folders[start] < 0).any() or (ends > rows[name]).any():
            yield f"a folder's {number} are not where it says"
