"""What the ledger asks of an engine: statements in the words that all engines know, and a few things by name.

Statements are written as SQLite has them, with ``?`` for a value; what another engine says otherwise, its module
translates. Whatever goes wrong in an engine is one of `ENGINE_ERRORS`.
"""

from __future__ import annotations

import sqlite3
from collections.abc import Iterable, Iterator, Sequence
from contextlib import AbstractContextManager
from typing import Any, Protocol

__all__ = ["ENGINE_ERRORS", "Database", "EngineError", "Rows"]


class EngineError(Exception):
    """What went wrong in an engine that has no errors of its own that are known here."""


ENGINE_ERRORS = (sqlite3.Error, EngineError)


class Rows(Protocol):
    """The rows of a statement; `lastrowid` is the number that an inserted row got."""

    @property
    def lastrowid(self) -> int | None: ...
    def fetchone(self) -> Any: ...
    def fetchall(self) -> list[Any]: ...
    def __iter__(self) -> Iterator[Any]: ...


class Database(Protocol):
    """An open database; outside of a transaction each statement stands for itself."""

    @property
    def in_transaction(self) -> bool: ...
    def execute(self, sql: str, values: Sequence[Any] = ..., /) -> Rows:
        """Run a statement."""

    def executemany(self, sql: str, values: Iterable[Sequence[Any]], /) -> object:
        """Run a statement for each of some rows."""

    def close(self) -> None:
        """Close it."""

    def begin(self) -> None:
        """Begin a transaction that no other run can come between; waits for another to end."""

    def impatient(self) -> AbstractContextManager[object]:
        """Within this, `begin` fails at once where another run is writing."""

    def columns_of(self, table: str) -> list[str]:
        """Return the names of a table's columns, in their order."""

    def overwrite_deleted(self) -> None:
        """Have what is deleted from now on not be found in what is stored."""

    def number_on(self) -> None:
        """Have rows that are numbered by themselves go on after those that were written with their numbers."""

    def held(self, name: str) -> AbstractContextManager[bool]:
        """Hold a lock for as long as this process lives at most; false where another holds it."""
