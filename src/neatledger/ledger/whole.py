"""Whole columns as NumPy arrays; apart, so that reading one path needs no NumPy."""

from __future__ import annotations

from collections.abc import Callable, Iterable

import numpy as np
from numpy.typing import NDArray

from neatledger.core.tree.columns import COLUMNS
from neatledger.core.tree.table import Column, ColumnsByNeed, Table
from neatledger.ledger.packing import BytesColumn, unpack_numbers

__all__ = ["read_table"]


def read_table(name: str, chunks: Callable[[str], Iterable[bytes]]) -> Table:
    """Return a table of `COLUMNS`; each of its columns is read from its packed chunks when it is first asked for."""
    dtypes = COLUMNS[name]

    def numbers(column: str) -> NDArray[np.generic] | None:
        full, dtype = f"{name}.{column}", dtypes[column]
        pieces = [np.frombuffer(unpack_numbers(data, dtype, full), dtype=dtype) for data in chunks(full)]
        return np.concatenate(pieces) if pieces else None

    def load(column: str) -> Column:
        full = f"{name}.{column}"
        if dtypes[column] == "bytes":
            return BytesColumn(chunks(full), full)
        found = numbers(column)
        # A column that came later than this count: nothing was known of it then.
        return np.zeros(table.rows, dtype=dtypes[column]) if found is None else found

    columns = ColumnsByNeed(load)
    # The first column of numbers, which every reader needs, tells how many rows there are.
    first = next(column for column, dtype in dtypes.items() if dtype != "bytes")
    found = numbers(first)
    if found is not None:
        columns[first] = found
    table = Table(columns, 0 if found is None else len(found))
    return table
