"""A ledger in a file of SQLite's: one file, nothing to look after."""

from __future__ import annotations

import os
import sqlite3
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

__all__ = ["SqliteDatabase", "connect"]

_WAIT_SECONDS = 60.0
_NO_FOLLOW = getattr(os, "O_NOFOLLOW", 0)


class SqliteDatabase(sqlite3.Connection):
    """An open file."""

    path = Path()

    def begin(self) -> None:
        """Begin a transaction that no other run can come between; waits for another to end."""
        self.execute("BEGIN IMMEDIATE")

    @contextmanager
    def impatient(self) -> Iterator[None]:
        """Within this, `begin` fails at once where another run is writing."""
        (patience,) = self.execute("PRAGMA busy_timeout").fetchone()
        self.execute("PRAGMA busy_timeout = 0")
        try:
            yield
        finally:
            self.execute(f"PRAGMA busy_timeout = {int(patience)}")

    def columns_of(self, table: str) -> list[str]:
        """Return the names of a table's columns, in their order."""
        return [row[1] for row in self.execute(f"PRAGMA table_info({table})")]

    def overwrite_deleted(self) -> None:
        """Have what is deleted from now on not be found in the free pages of the file."""
        self.execute("PRAGMA secure_delete = ON")

    def number_on(self) -> None:
        """Nothing needs to be done: what is written with its number is counted on from."""

    @contextmanager
    def held(self, name: str) -> Iterator[bool]:
        """Hold a lock for as long as this process lives at most; false where another holds it.

        It is a file of its own beside the ledger, for a lock on the ledger's own file is SQLite's. Where the system
        has no such locks, nobody is kept from anything.
        """
        try:
            import fcntl

            handle = os.open(f"{self.path}.{name}", os.O_RDWR | os.O_CREAT | _NO_FOLLOW, 0o600)
        except (ImportError, OSError):
            yield True
            return
        try:
            try:
                fcntl.flock(handle, fcntl.LOCK_EX | fcntl.LOCK_NB)
            except BlockingIOError:
                yield False
            except OSError:
                yield True
            else:
                yield True
        finally:
            os.close(handle)


def connect(path: Path) -> SqliteDatabase:
    """Open a file that is there: one that is not is made by nobody in passing."""
    where = f"{path.absolute().as_uri()}?mode=rw"
    found = sqlite3.connect(where, timeout=_WAIT_SECONDS, isolation_level=None, factory=SqliteDatabase, uri=True)
    found.path = path
    found.execute("PRAGMA foreign_keys = ON")
    found.execute("PRAGMA cache_size = -16000")
    return found
