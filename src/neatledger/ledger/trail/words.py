"""What the trail keeps once, by number: logins, addresses and devices, folders, and who did what from where."""

from __future__ import annotations

import json
import os
from collections.abc import Callable, Iterable, Iterator, Mapping
from contextlib import contextmanager
from hashlib import sha256
from typing import Any

from neatledger.core.trail.records import Did
from neatledger.errors import LedgerError
from neatledger.ledger.chain import Chain, Subject
from neatledger.ledger.engines.contract import ENGINE_ERRORS, Database

__all__ = [
    "DIDS",
    "DONE",
    "FOLDER",
    "NUMBERS",
    "Index",
    "Numbers",
    "Words",
    "clean",
    "last_number",
    "reading",
    "seal_word",
]

# The numbers in the file; they are never given to anything else.
NUMBERS = {
    Did.SIGN_IN: 1, Did.OPEN: 2, Did.CHANGE: 3, Did.MAKE: 4, Did.RENAME: 5,
    Did.DELETE: 6, Did.RIGHTS: 7, Did.ACCOUNT: 8, Did.SHARE: 9, Did.LOGGING: 10,
}  # fmt: skip
DIDS = {number: did for did, number in NUMBERS.items()}
DONE, FOLDER = 1, 2
"""What the state of a deed says, a bit each."""

Row = tuple[int, str, int, int, str, str]  # a deed: number, login, did, state, address, device


class Index(dict[Any, int]):
    """The place of a thing among those that came before it."""

    def __missing__(self, key: Any) -> int:
        self[key] = found = len(self)
        return found


class Numbers(dict[Any, int]):
    """The numbers of things in a table; what is new in it is written when it is first asked for."""

    def __init__(
        self,
        db: Database,
        table: str,
        columns: str,
        extra: Callable[[Any], Mapping[str, object]] = lambda _: {},
    ) -> None:
        super().__init__()
        self._db, self._table, self._columns, self._extra = db, table, columns.split(", "), extra
        self._new: list[int] = []

    def __missing__(self, key: Any) -> int:
        values = tuple(clean(one) if isinstance(one, str) else one for one in key)
        where = " AND ".join(f"{name} = ?" for name in self._columns)
        row = self._db.execute(f"SELECT id FROM {self._table} WHERE {where}", values).fetchone()
        if row is None:
            extra = self._extra(values)
            names, marks = ", ".join([*self._columns, *extra]), ", ".join("?" * (len(values) + len(extra)))
            cursor = self._db.execute(
                f"INSERT INTO {self._table} ({names}) VALUES ({marks})", (*values, *extra.values())
            )
            row = (int(cursor.lastrowid or 0),)
            self._new.append(row[0])
        self[key] = found = int(row[0])
        return found

    def seal(self, chain: Chain) -> None:
        """Add a link for what was written."""
        if self._new:
            chain.add(Subject(self._table), self._new[0], self._new[-1])
            self._new.clear()


def seal_word(values: tuple[str, ...]) -> dict[str, object]:
    """Return what is kept beside a word: a salt, and the digest of both."""
    salt = os.urandom(16)
    return {"salt": salt, "digest": sha256(salt + values[1].encode()).digest()}


class Words:
    """Deeds with their words in place of numbers."""

    def __init__(self, db: Database) -> None:
        self._db = db

    _QUERY = (
        "SELECT d.id, w.text, d.did, d.state, coalesce(a.text, ''), coalesce(v.text, '') FROM trail_deeds AS d"
        " JOIN trail_words AS w ON w.id = d.who LEFT JOIN trail_words AS a ON a.id = d.address"
        " LEFT JOIN trail_words AS v ON v.id = d.device WHERE "
    )

    def of_system(self, system: str) -> Iterator[Row]:
        """Yield all deeds of a system."""
        yield from self._db.execute(f"{self._QUERY} w.system = ?", (system,))

    def of(self, numbers: Iterable[int]) -> dict[int, Row]:
        """Return the deeds of these numbers."""
        asked = json.dumps(list(numbers))
        rows = self._db.execute(f"{self._QUERY} d.id IN (SELECT value FROM json_each(?))", (asked,))
        return {row[0]: row for row in rows}


@contextmanager
def reading(where: str) -> Iterator[None]:
    """Tell of a trail that cannot be read as `LedgerError`."""
    try:
        yield
    except (*ENGINE_ERRORS, KeyError, ValueError, TypeError, IndexError) as error:
        raise LedgerError(f"the trail cannot be read: {error}", where, "ledger --verify says more") from error


def last_number(db: Database, table: str) -> int:
    """Return the last number that a table has given."""
    (last,) = db.execute(f"SELECT coalesce(max(id), 0) FROM {table}").fetchone()
    return int(last)


def clean(text: str) -> str:
    """Return a text that can be stored: what could not be decoded stands in it as an escape."""
    return text.encode("utf-8", "backslashreplace").decode()
