"""Writing into the ledger: all of it or nothing, whatever comes between."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager

from neatledger.ledger.engines.contract import Database

__all__ = ["transaction"]


@contextmanager
def transaction(db: Database) -> Iterator[None]:
    """Write in one transaction that no other run can come between."""
    try:
        db.begin()
        yield
        db.execute("COMMIT")
    finally:
        # Where the disk is full, the store has given it up by itself.
        if db.in_transaction:
            db.execute("ROLLBACK")
