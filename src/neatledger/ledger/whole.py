"""Whole columns as NumPy arrays; apart, so that reading one path needs no NumPy."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from typing import Any

import numpy as np

from neatledger.core.tree.columns import COLUMNS
from neatledger.core.tree.table import Table
from neatledger.ledger.packing import BytesColumn, unpack_numbers

__all__ = ["read_table"]


def read_table(name: str, without: tuple[str, ...], chunks: Callable[[str], Iterable[bytes]]) -> Table:
    """Read a table of `COLUMNS` from its packed chunks."""
    columns: dict[str, Any] = {}
    rows = 0
    lacking = []
    for column, dtype in COLUMNS[name].items():
        if column in without:
            continue
        full = f"{name}.{column}"
        if dtype == "bytes":
            strings = BytesColumn(chunks(full), full)
            columns[column], rows = strings, max(rows, len(strings))
        else:
            pieces = [np.frombuffer(unpack_numbers(data, dtype, full), dtype=dtype) for data in chunks(full)]
            columns[column] = np.concatenate(pieces) if pieces else np.empty(0, dtype=dtype)
            rows = max(rows, len(columns[column]))
            if not pieces:
                lacking.append(column)
    for column in lacking:
        # A column that came later than this count: nothing was known of it then.
        columns[column] = np.zeros(rows, dtype=COLUMNS[name][column])
    return Table(columns, rows)
