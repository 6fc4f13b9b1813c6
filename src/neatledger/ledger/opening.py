"""Open a ledger: make it where there is none yet, and bring an older one to the current version."""

from __future__ import annotations

import os
import sqlite3
import tempfile
from collections.abc import Iterator
from pathlib import Path

from neatledger.errors import LedgerError, NoCountError
from neatledger.ledger.chain import Chain
from neatledger.ledger.engines.sqlite import SqliteDatabase, connect
from neatledger.ledger.schema import APPLICATION_ID, CHAINED, FINDINGS_SEALED, IN_BLOCKS, MIGRATIONS, VERSION
from neatledger.ledger.store import Ledger, refused

__all__ = ["open_ledger"]


def open_ledger(place: Path | str, *, create: bool = False) -> Ledger:
    """Open the ledger, bring it to the current version, and return it; raises `LedgerError`.

    `place` is a file, or the address of a database (``postgresql://…``). A new file is built beside its place and
    renamed, so that it is there whole or not at all.
    """
    if isinstance(place, str):
        if not place.startswith(("postgresql://", "postgres://")):
            # What else it is may hold a password, and is not repeated.
            hint = "postgresql://SERVER/NAME; a ledger in a file is always the one beside the plan"
            raise LedgerError("NEATLEDGER_LEDGER is no address of a database", hint=hint)
        return _open_database(place, create=create)
    path = place
    if path.is_symlink() and not path.exists():
        hint = "put the file back to where it leads, or take the link away; count then makes a new one"
        raise LedgerError(f"leads to a file that is not there: {os.readlink(path)}", str(path), hint)
    if not path.exists():
        if not create:
            raise NoCountError("there is no count yet", str(path), "run: neatledger count")
        _create(path)
    connection = _connect(path)
    try:
        _migrate(connection, path)
    except BaseException:
        connection.close()
        raise
    return Ledger(connection, str(path))


def _open_database(url: str, *, create: bool) -> Ledger:
    from neatledger.ledger.engines import postgres

    def brought_up(database: postgres.PostgresDatabase, version: int) -> None:
        if version < FINDINGS_SEALED:
            Chain(database, url).seal_findings()

    found = postgres.connect(url, create=create, brought_up=brought_up)
    if found is None:
        raise NoCountError("there is no count yet", url, "run: neatledger count")
    return Ledger(found, url)


def _connect(path: Path) -> SqliteDatabase:
    try:
        return connect(path)
    except sqlite3.Error as error:
        raise refused(error, str(path)) from error


def _create(path: Path) -> None:
    handle, name = tempfile.mkstemp(prefix=path.name, suffix=".new", dir=path.parent)
    os.close(handle)
    try:
        connection = _connect(Path(name))
        connection.execute(f"PRAGMA application_id = {APPLICATION_ID}")
        _migrate(connection, Path(name))
        connection.close()
        # Two first runs at once: the one that comes second keeps the file of the first.
        os.link(name, path)
    except FileExistsError:
        pass
    finally:
        Path(name).unlink()


def _migrate(connection: SqliteDatabase, path: Path) -> None:
    try:
        (version,) = connection.execute("PRAGMA user_version").fetchone()
        (application,) = connection.execute("PRAGMA application_id").fetchone()
        if application != APPLICATION_ID:
            raise LedgerError("this file is no ledger", str(path), "move it away; count makes a new one")
        if version > VERSION:
            raise LedgerError(f"made by a newer version (ledger {version}, this knows {VERSION})", str(path))
        if version < VERSION:
            connection.execute("BEGIN IMMEDIATE")
            (version,) = connection.execute("PRAGMA user_version").fetchone()
            for step in range(version, VERSION):
                for statement in _statements(MIGRATIONS[step]):
                    connection.execute(statement)
            if version < IN_BLOCKS:
                Ledger(connection, str(path)).trail.take_over()
            if version < CHAINED:
                Chain(connection, str(path)).begin()
            if version < FINDINGS_SEALED:
                Chain(connection, str(path)).seal_findings()
            connection.execute(f"PRAGMA user_version = {VERSION}")
            connection.execute("COMMIT")
    except sqlite3.Error as error:
        raise refused(error, str(path)) from error


def _statements(script: str) -> Iterator[str]:
    """Split a script; sqlite3's own executescript would end the transaction."""
    waiting = ""
    for line in script.splitlines(keepends=True):
        waiting += line
        if sqlite3.complete_statement(waiting):
            yield waiting
            waiting = ""
