"""Writing into the ledger: all of it or nothing, whatever comes between."""

from __future__ import annotations

import sqlite3
from collections.abc import Iterator
from contextlib import contextmanager

__all__ = ["transaction"]


@contextmanager
def transaction(db: sqlite3.Connection) -> Iterator[None]:
    """Write in one transaction that no other run can come between."""
    try:
        db.execute("BEGIN IMMEDIATE")
        yield
        db.execute("COMMIT")
    finally:
        # Where the disk is full, the store has given it up by itself.
        if db.in_transaction:
            db.execute("ROLLBACK")
