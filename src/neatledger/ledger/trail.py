"""The trail in the ledger: what was done, each record once; names, paths and words are kept once, by number."""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Collection, Iterator, Sequence
from datetime import UTC, datetime
from typing import Any

from neatledger.core.trail.records import Did, Position, Record
from neatledger.core.tree.address import Address
from neatledger.errors import LedgerError
from neatledger.ledger.chain import Chain, Subject
from neatledger.ledger.writing import transaction

__all__ = ["Trail"]

# The numbers in the file; they are never given to anything else.
_NUMBERS = {
    Did.SIGN_IN: 1, Did.OPEN: 2, Did.CHANGE: 3, Did.MAKE: 4,
    Did.RENAME: 5, Did.DELETE: 6, Did.RIGHTS: 7, Did.ACCOUNT: 8,
}  # fmt: skip
_DIDS = {number: did for did, number in _NUMBERS.items()}
_DONE, _FOLDER = 1, 2


class Trail:
    """The trail of an open ledger."""

    def __init__(self, connection: sqlite3.Connection, where: str) -> None:
        self._db, self._where = connection, where

    def position(self, system: str, file: str) -> Position | None:
        """Return how far a log was read; None where it never was."""
        row = self._db.execute(
            "SELECT head, head_length, offset, lines FROM trail_logs WHERE system = ? AND file = ?", (system, file)
        ).fetchone()
        return None if row is None else Position(*row)

    def add(self, system: str, file: str, records: Sequence[Record], position: Position, moment: datetime) -> None:
        """Keep records with how far their log was read by then, all or nothing; raises `LedgerError`."""
        try:
            with transaction(self._db):
                if records:
                    self._insert(system, records)
                moments = [int(one.moment.timestamp()) for one in records]
                self._db.execute(
                    "INSERT INTO trail_logs"
                    " (system, file, head, head_length, offset, lines, first_moment, last_moment, read_at)"
                    " VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?) ON CONFLICT (system, file) DO UPDATE SET"
                    " head = excluded.head, head_length = excluded.head_length, offset = excluded.offset,"
                    " lines = excluded.lines,"
                    " first_moment = min(ifnull(first_moment, excluded.first_moment),"
                    " ifnull(excluded.first_moment, first_moment)),"
                    " last_moment = max(ifnull(last_moment, excluded.last_moment),"
                    " ifnull(excluded.last_moment, last_moment)), read_at = excluded.read_at",
                    (
                        *(system, file, position.head, position.head_length, position.offset, position.lines),
                        *(min(moments, default=None), max(moments, default=None)),
                        moment.astimezone(UTC).isoformat(timespec="seconds"),
                    ),
                )
        except sqlite3.Error as error:
            what = "the disk is full" if "full" in str(error) else str(error)
            raise LedgerError(f"the trail cannot be kept: {what}", self._where) from error

    def _insert(self, system: str, records: Sequence[Record]) -> None:
        names = self._numbers("trail_names", "login", system, {_clean(one.who) for one in records})
        paths = self._numbers("trail_paths", "path", system, {p for one in records for p in (one.path, one.to) if p})
        texts = {_clean(text) for one in records for text in (one.address, one.device, one.detail) if text}
        words = self._numbers("trail_words", "text", None, texts)
        rows = [
            (
                int(one.moment.timestamp()),
                names[_clean(one.who)],
                _NUMBERS[one.did],
                _DONE * one.is_done + _FOLDER * one.is_folder,
                paths.get(one.path),
                paths.get(one.to),
                *(words.get(_clean(text)) for text in (one.address, one.device, one.detail)),
            )
            for one in records
        ]
        self._db.executemany(
            "INSERT INTO trail_records (moment, who, did, state, path, dest, address, device, detail)"
            " VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)",
            rows,
        )
        Chain(self._db, self._where).add_rows(Subject.TRAIL, len(rows))

    def _numbers(self, table: str, column: str, system: str | None, values: Collection[Any]) -> dict[Any, int]:
        """Return the numbers of values, those that are new among them written first."""
        key: tuple[str, ...] = () if system is None else (system,)
        columns, marks = ("system, ", "?, ") if key else ("", "")
        where = "system = ? AND " if key else ""
        self._db.executemany(
            f"INSERT OR IGNORE INTO {table} ({columns}{column}) VALUES ({marks}?)", ((*key, one) for one in values)
        )
        ask = f"SELECT id FROM {table} WHERE {where}{column} = ?"
        return {one: self._db.execute(ask, (*key, one)).fetchone()[0] for one in values}

    def systems(self) -> dict[str, tuple[datetime, datetime]]:
        """Return of each system that has records the first and the last moment of them (UTC)."""
        rows = self._db.execute(
            "SELECT system, min(first_moment), max(last_moment) FROM trail_logs"
            " WHERE first_moment IS NOT NULL GROUP BY system"
        )
        return {name: (_moment(first), _moment(last)) for name, first, last in rows}

    def records(
        self,
        *,
        logins: Collection[tuple[str, str]] | None = None,
        below: Address | None = None,
        since: datetime | None = None,
        until: datetime | None = None,
    ) -> Iterator[tuple[str, Record]]:
        """Yield systems and records in the order of time; raises `LedgerError`.

        `logins` are systems and logins (None: all); `below` a folder or file, and all below it; `since` is the first
        moment and `until` the first that is too late.
        """
        conditions, values = ["1"], list[object]()
        if logins is not None:
            conditions.append(
                "r.who IN (SELECT n.id FROM json_each(?) AS j JOIN trail_names AS n"
                " ON n.system = j.value ->> 0 AND n.login = j.value ->> 1 COLLATE NOCASE)"
            )
            values.append(json.dumps([list(pair) for pair in logins]))
        if below is not None:
            # "/" comes before "0": the names between are those below the folder.
            place = below.path.rstrip(b"/")
            within = "SELECT id FROM trail_paths WHERE system = ? AND (path = ? OR (path >= ? AND path < ?))"
            conditions.append(f"(r.path IN ({within}) OR r.dest IN ({within}))")
            values += [below.system, place or b"/", place + b"/", place + b"0"] * 2
        for word, moment in ((">=", since), ("<", until)):
            if moment is not None:
                conditions.append(f"r.moment {word} ?")
                values.append(int(moment.timestamp()))
        query = (
            "SELECT t.moment, t.system, t.login, t.did, t.state, t.path, t.dest, t.address, t.device, t.detail"
            f" FROM trail AS t WHERE t.id IN (SELECT r.id FROM trail_records AS r WHERE {' AND '.join(conditions)})"
            " ORDER BY t.moment, t.id"
        )
        try:
            for moment, system, login, did, state, path, to, *words in self._db.execute(query, values):
                yield system, Record(
                    _moment(moment), login, _DIDS[did], path or b"", to or b"", bool(state & _DONE),
                    bool(state & _FOLDER), *(text or "" for text in words),
                )  # fmt: skip
        except (sqlite3.Error, KeyError, ValueError, TypeError) as error:
            raise LedgerError(
                f"the trail cannot be read: {error}", self._where, "counts --prove says more"
            ) from error


def _moment(seconds: int) -> datetime:
    return datetime.fromtimestamp(seconds, UTC)


def _clean(text: str) -> str:
    """Return a text that can be stored: what could not be decoded stands in it as an escape."""
    return text.encode("utf-8", "backslashreplace").decode()
