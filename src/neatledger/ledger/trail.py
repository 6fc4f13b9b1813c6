"""The trail in the ledger: what was done, each record once, in blocks; logins, folders and places once, by number."""

from __future__ import annotations

import json
import os
import sqlite3
from collections.abc import Callable, Collection, Iterable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from dataclasses import dataclass
from datetime import UTC, datetime
from hashlib import sha256
from typing import Any

import numpy as np
from numpy.typing import NDArray

from neatledger.core.trail.coverage import Coverage, Gap, common_coverage
from neatledger.core.trail.moves import Move, Moves
from neatledger.core.trail.records import Did, Position, Record
from neatledger.core.trail.table import DIDS, TrailTable
from neatledger.core.tree.address import Address
from neatledger.errors import LedgerError
from neatledger.ledger.chain import Chain, Subject
from neatledger.ledger.trailblocks import (
    BLOCK_ROWS,
    COLUMNS,
    More,
    NamesColumn,
    PackedBlock,
    Rows,
    unpack,
    unpack_more,
)  # fmt: skip
from neatledger.ledger.writing import transaction

__all__ = ["Covered", "Selection", "Trail"]

# The numbers in the file; they are never given to anything else.
_NUMBERS = {
    Did.SIGN_IN: 1, Did.OPEN: 2, Did.CHANGE: 3, Did.MAKE: 4, Did.RENAME: 5,
    Did.DELETE: 6, Did.RIGHTS: 7, Did.ACCOUNT: 8, Did.SHARE: 9, Did.LOGGING: 10,
}  # fmt: skip
_DIDS = {number: did for did, number in _NUMBERS.items()}
_DONE, _FOLDER = 1, 2
_NO_MORE = More(0, b"", "")
_MOST_KNOWN = 500_000  # numbers that are remembered from one writing to the next
_OPEN_BLOCKS = 8  # whose names stay unpacked while records are told in the order of time

_Row = tuple[int, str, int, int, str, str]  # a deed: number, login, did, state, address, device


@dataclass(frozen=True, slots=True)
class Covered:
    """What is kept of one system: the first and the last moment (UTC), and how many rows and records."""

    first: datetime
    last: datetime
    rows: int


@dataclass
class _Block:
    """A block of which some rows are wanted; its columns are read when they are asked for."""

    db: sqlite3.Connection
    id: int
    system: str
    rows: int
    first_moment: int
    last_moment: int
    wanted: NDArray[np.intp]
    records: int = 0

    @property
    def moments(self) -> NDArray[np.int64]:
        """When the wanted rows were, in seconds since 1970 (UTC)."""
        (packed,) = self.db.execute("SELECT moments FROM trail_blocks WHERE id = ?", (self.id,)).fetchone()
        found: NDArray[np.int64] = self.first_moment + np.cumsum(unpack(packed, self.rows), dtype=np.int64)
        return found[self.wanted]


class Selection:
    """Records that were found and not yet told."""

    def __init__(self, db: sqlite3.Connection, where: str, blocks: Sequence[_Block]) -> None:
        self._db, self._where, self._blocks = db, where, blocks

    @property
    def number(self) -> int:
        """How many records there are."""
        return sum(one.records for one in self._blocks)

    @property
    def rows(self) -> int:
        """How many rows tell of them: those of a day that were added up are one."""
        return sum(len(one.wanted) for one in self._blocks)

    def records(self, newest: int | None = None) -> Iterator[tuple[str, Record]]:
        """Yield systems and records in the order of time; raises `LedgerError`.

        `newest` are at least so many of the last, without one left out in between (None: all).
        """
        with _reading(self._where):
            yield from self._records(newest)

    def _records(self, newest: int | None) -> Iterator[tuple[str, Record]]:
        blocks, earliest = self._newest(newest)
        if not blocks:
            return
        moments = np.concatenate([one.moments for one in blocks])
        owner = np.repeat(np.arange(len(blocks)), [len(one.wanted) for one in blocks])
        rows = np.concatenate([one.wanted for one in blocks])
        order = np.argsort(moments, kind="stable")
        order = order[np.searchsorted(moments[order], earliest) :]
        tellers: dict[int, Callable[[int, int], Record]] = {}
        words = _Words(self._db)
        triples = zip(owner[order].tolist(), rows[order].tolist(), moments[order].tolist(), strict=True)
        for block, row, moment in triples:
            tell = tellers.get(block)
            if tell is None:
                if len(tellers) >= _OPEN_BLOCKS:
                    tellers.pop(next(iter(tellers)))
                tell = tellers[block] = _Teller(self._db, blocks[block], words).tell
            yield blocks[block].system, tell(row, moment)

    def _newest(self, number: int | None) -> tuple[Sequence[_Block], int]:
        """Return the blocks that hold so many of the newest rows, and the moment from which nothing is missing."""
        if number is None:
            return self._blocks, -(2**62)
        found: list[_Block] = []
        left = sorted(self._blocks, key=lambda one: one.last_moment)
        while left and (
            sum(len(one.wanted) for one in found) < number
            or left[-1].last_moment >= min(one.first_moment for one in found)
        ):
            found.append(left.pop())
        found.sort(key=lambda one: one.id)
        return found, left[-1].last_moment + 1 if left else -(2**62)


@contextmanager
def _reading(where: str) -> Iterator[None]:
    """Tell of a trail that cannot be read as `LedgerError`."""
    try:
        yield
    except (sqlite3.Error, KeyError, ValueError, TypeError, IndexError) as error:
        raise LedgerError(f"the trail cannot be read: {error}", where, "counts --prove says more") from error


class Trail:
    """The trail of an open ledger."""

    def __init__(self, connection: sqlite3.Connection, where: str) -> None:
        self._db, self._where = connection, where
        self._known: dict[str, _Numbers] = {}

    def position(self, system: str, file: str) -> Position | None:
        """Return how far a log was read; None where it never was."""
        row = self._db.execute(
            "SELECT head, head_length, offset, lines FROM trail_logs WHERE system = ? AND file = ?", (system, file)
        ).fetchone()
        return None if row is None else Position(*row)

    def add(
        self,
        system: str,
        file: str,
        records: Sequence[Record],
        position: Position,
        moment: datetime,
        gap: Gap | None = None,
    ) -> None:
        """Keep records with how far their log was read by then, all or nothing; raises `LedgerError`.

        `gap` is a time of which records are missing, as this reading showed.
        """
        with self._writing():
            self._insert(system, records)
            if gap is not None:
                span = int(gap.after.timestamp()), int(gap.before.timestamp())
                self._db.execute(
                    'INSERT INTO trail_gaps (system, file, "after", "before", why) VALUES (?, ?, ?, ?, ?)',
                    (system, file, *span, gap.why),
                )
                Chain(self._db, self._where).add_rows(Subject.TRAIL_GAPS, 1)
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

    @contextmanager
    def _writing(self) -> Iterator[None]:
        try:
            with transaction(self._db):
                yield
        except BaseException as error:
            # What was numbered is not there any more.
            self._known.clear()
            if not isinstance(error, sqlite3.Error):
                raise
            what = "the disk is full" if "full" in str(error) else str(error)
            raise LedgerError(f"the trail cannot be kept: {what}", self._where) from error

    def _insert(self, system: str, records: Iterable[Record]) -> None:
        """Write records of one system in the order of time, with what they are the first to name."""
        ordered = sorted(records, key=lambda one: one.moment)
        if not ordered:
            return
        if not self._known or sum(map(len, self._known.values())) > _MOST_KNOWN:
            self._known = {
                "words": _Numbers(self._db, "trail_words", "system, text", _seal_word),
                "folders": _Numbers(self._db, "trail_folders", "system, path"),
                "deeds": _Numbers(self._db, "trail_deeds", "who, did, state, address, device"),
            }
        words, folders, deeds = (self._known[one] for one in ("words", "folders", "deeds"))
        known: dict[tuple[object, ...], int] = {}  # what a deed is made of → its number
        moments, deed_numbers, folder_numbers, names = list[int](), list[int](), list[int](), list[bytes]()
        more: dict[int, More] = {}
        for row, (moment, who, did, path, to, is_done, is_folder, address, device, detail, _) in enumerate(ordered):
            moments.append(int(moment.timestamp()))
            key = who, did, is_done, is_folder, address, device
            number = known.get(key)
            if number is None:
                state = _DONE * is_done + _FOLDER * is_folder
                places = (words["", address] if address else 0), (words["", device] if device else 0)
                known[key] = number = deeds[words[system, who], _NUMBERS[did], state, *places]
            deed_numbers.append(number)
            folder, _, name = path.rpartition(b"/")
            folder_numbers.append(folders[system, folder or b"/"] if path else 0)
            names.append(name)
            if to or detail:
                dest, _, dest_name = to.rpartition(b"/")
                more[row] = More(folders[system, dest or b"/"] if to else 0, dest_name, _clean(detail))
        self._note_moves(system, ordered)
        for some in (words, folders, deeds):
            some.seal(Chain(self._db, self._where))
        rows = Rows(
            np.array(moments, np.int64), np.array(deed_numbers, np.uint32), np.array(folder_numbers, np.uint32),
            names, more,
        )  # fmt: skip
        self._write(system, rows)

    def _note_moves(self, system: str, records: Iterable[Record]) -> None:
        """Keep where folders were moved: what is known to be one, or something was done in it before."""
        within = "SELECT 1 FROM trail_folders WHERE system = ? AND (path = ? OR (path > ? AND path < ?)) LIMIT 1"
        moves = [
            (system, int(one.moment.timestamp()), one.path, one.to)
            for one in records
            if one.did is Did.RENAME and one.is_done and one.to and one.path != one.to
            and (
                one.is_folder
                # "/" comes before "0": the names between are those below the folder.
                or self._db.execute(within, (system, one.path, one.path + b"/", one.path + b"0")).fetchone()
            )
        ]  # fmt: skip
        self._db.executemany("INSERT INTO trail_moves (system, moment, source, dest) VALUES (?, ?, ?, ?)", moves)
        if moves:
            Chain(self._db, self._where).add_rows(Subject.TRAIL_MOVES, len(moves))

    def moves(self, system: str) -> Moves:
        """Return where folders of a system were moved, as far as records tell."""
        query = "SELECT moment, source, dest FROM trail_moves WHERE system = ?"
        return Moves(Move(*row) for row in self._db.execute(query, (system,)))

    def coverage(self, system: str, files: Collection[str]) -> Coverage | None:
        """Return what some logs of a system cover together; None where one of them was never read."""
        gaps: dict[str, list[Gap]] = {}
        query = 'SELECT file, "after", "before", why FROM trail_gaps WHERE system = ?'
        for file, after, before, why in self._db.execute(query, (system,)):
            gaps.setdefault(file, []).append(Gap(_moment(after), _moment(before), why))
        dids = frozenset(
            _DIDS[did]
            for (did,) in self._db.execute(
                "SELECT DISTINCT did FROM trail_deeds WHERE who IN (SELECT id FROM trail_words WHERE system = ?)",
                (system,),
            )
        )
        query = "SELECT file, first_moment, read_at FROM trail_logs WHERE system = ? AND first_moment IS NOT NULL"
        found = {
            file: Coverage(_moment(first), datetime.fromisoformat(read), tuple(gaps.get(file, ())), dids)
            for file, first, read in self._db.execute(query, (system,))
        }
        return common_coverage([found[one] for one in files]) if files and set(files) <= found.keys() else None

    def last_known(self, system: str, file: str) -> tuple[datetime, datetime] | None:
        """Return the last moment that a log told of, and when it was last read (UTC); None where it never was."""
        row = self._db.execute(
            "SELECT last_moment, read_at FROM trail_logs WHERE system = ? AND file = ?", (system, file)
        ).fetchone()
        return None if row is None or row[0] is None else (_moment(row[0]), datetime.fromisoformat(row[1]))

    def _write(self, system: str, rows: Rows) -> None:
        """Write rows as blocks, and seal them."""
        for start in range(0, len(rows), BLOCK_ROWS):
            packed = PackedBlock.of(_piece(rows, start))
            cursor = self._db.execute(
                f"INSERT INTO trail_blocks (system, first_moment, last_moment, rows, {', '.join(COLUMNS)})"
                " VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?)",
                (system, packed.first_moment, packed.last_moment, packed.rows, *packed.data),
            )
            number = int(cursor.lastrowid or 0)
            # Each has a link of its own: it may be dropped when its records are added up.
            Chain(self._db, self._where).add(Subject.TRAIL_BLOCKS, number, number)

    def take_over(self) -> None:
        """Bring records that were kept one by one into blocks, within the transaction of a migration."""
        old = "SELECT moment, system, login, did, state, path, dest, address, device, detail FROM trail ORDER BY id"
        systems: dict[str, list[Record]] = {}
        for moment, system, login, did, state, path, dest, *words in self._db.execute(old).fetchall():
            address, device, detail = (text or "" for text in words)
            one = Record(
                _moment(moment), login, _DIDS[did], path or b"", dest or b"", bool(state & _DONE),
                bool(state & _FOLDER), address, device, detail,
            )  # fmt: skip
            systems.setdefault(system, []).append(one)
        for system, records in systems.items():
            self._insert(system, records)
        self._db.execute("DROP VIEW trail")
        for table in ("records", "names", "paths", "words_before"):
            self._db.execute(f"DROP TABLE trail_{table}")

    def covered(self) -> dict[str, Covered]:
        """Return what is kept of each system that has records."""
        rows = self._db.execute(
            "SELECT system, min(first_moment), max(last_moment), sum(rows) FROM trail_blocks GROUP BY system"
        )
        return {name: Covered(_moment(first), _moment(last), rows) for name, first, last, rows in rows}

    def select(
        self,
        *,
        logins: Collection[tuple[str, str]] | None = None,
        below: Collection[Address] | None = None,
        dids: Collection[Did] | None = None,
        is_done: bool | None = None,
        since: datetime | None = None,
        until: datetime | None = None,
    ) -> Selection:
        """Find records; raises `LedgerError`.

        `logins` are systems and logins (None: all); `below` are folders or files, and all below them; `is_done` tells
        what was done from what was refused; `since` is the first moment and `until` the first that is too late.
        """
        with _reading(self._where):
            deeds = None
            if logins is not None or dids is not None or is_done is not None:
                deeds = self._mask_of_deeds(logins, dids, is_done)
            places = None if below is None else _Places(self._db, below)
            return Selection(self._db, self._where, list(self._wanted(deeds, places, since, until)))

    def records(self, *, since: datetime, until: datetime) -> Iterator[tuple[str, Record]]:
        """Yield systems and records of a time in the order of it; raises `LedgerError`."""
        yield from self.select(since=since, until=until).records()

    def _wanted(
        self,
        deeds: NDArray[np.bool_] | None,
        places: _Places | None,
        since: datetime | None,
        until: datetime | None,
    ) -> Iterator[_Block]:
        """Yield the blocks of which rows are wanted; a column that decides nothing is not opened."""
        first = -(2**62) if since is None else int(since.timestamp())
        end = 2**62 if until is None else int(until.timestamp())
        query = (
            "SELECT id, system, rows, first_moment, last_moment, deeds, numbers FROM trail_blocks"
            " WHERE last_moment >= ? AND first_moment < ? ORDER BY id"
        )
        for number, system, rows, start, last, column, numbers in self._db.execute(query, (first, end)).fetchall():
            mask = np.ones(rows, np.bool_)
            if deeds is not None:
                mask &= deeds[unpack(column, rows)]
            if places is not None and mask.any():
                mask &= places.mask(number, system, rows)
            if not mask.any():
                continue
            block = _Block(self._db, number, system, rows, start, last, np.flatnonzero(mask))
            if start < first or last >= end:
                moments = block.moments
                block.wanted = block.wanted[(moments >= first) & (moments < end)]
            if len(block.wanted):
                block.records = len(block.wanted)
                if numbers is not None:
                    block.records = int(unpack(numbers, rows)[block.wanted].sum())
                yield block

    def _mask_of_deeds(
        self, logins: Collection[tuple[str, str]] | None, dids: Collection[Did] | None, is_done: bool | None
    ) -> NDArray[np.bool_]:
        conditions, values = ["1"], list[object]()
        if logins is not None:
            conditions.append(
                "who IN (SELECT w.id FROM json_each(?) AS j JOIN trail_words AS w"
                " ON w.system = j.value ->> 0 AND w.text = j.value ->> 1 COLLATE NOCASE)"
            )
            values.append(json.dumps([list(pair) for pair in logins]))
        if dids is not None:
            conditions.append("did IN (SELECT value FROM json_each(?))")
            values.append(json.dumps([_NUMBERS[one] for one in dids]))
        if is_done is not None:
            conditions.append(f"(state & {_DONE}) = {_DONE if is_done else 0}")
        mask = np.zeros(_last(self._db, "trail_deeds") + 1, np.bool_)
        found = self._db.execute(f"SELECT id FROM trail_deeds WHERE {' AND '.join(conditions)}", values).fetchall()
        mask[[number for (number,) in found]] = True
        return mask

    def table(
        self,
        system: str,
        since: datetime | None = None,
        until: datetime | None = None,
        kinds_since: datetime | None = None,
    ) -> TrailTable:
        """Return records of one system as columns; raises `LedgerError`.

        Names of files are not in it; their kinds are told of records from `kinds_since` on (None: of none).
        """
        first = -(2**62) if since is None else int(since.timestamp())
        end = 2**62 if until is None else int(until.timestamp())
        kinds_from = 2**62 if kinds_since is None else int(kinds_since.timestamp())
        query = (
            "SELECT rows, first_moment, last_moment, moments, deeds, folders, names, more, numbers FROM trail_blocks"
            " WHERE system = ? AND last_moment >= ? AND first_moment < ? ORDER BY id"
        )
        pieces: list[tuple[NDArray[Any], ...]] = []
        kinds = _Index()
        for rows, start, last, moments, deeds, folders, names, more, numbers in self._db.execute(
            query, (system, first, end)
        ):
            seconds = start + np.cumsum(unpack(moments, rows), dtype=np.int64)
            mask = (seconds >= first) & (seconds < end)
            kind = np.full(rows, -1, np.int32)
            if last >= kinds_from:
                endings = map(_ending, NamesColumn(names, rows))
                kind = np.array([kinds[one] if one else -1 for one in endings], np.int32)
                for row, one in unpack_more(more).items():
                    if ending := _ending(one.dest_name):
                        kind[row] = kinds[ending]
            amounts = np.ones(rows, np.int64) if numbers is None else unpack(numbers, rows).astype(np.int64)
            columns = (seconds, unpack(deeds, rows), unpack(folders, rows), kind, amounts)
            pieces.append(tuple(column[mask] for column in columns))
        return self._table(system, pieces, list(kinds))

    def _table(self, system: str, pieces: Sequence[tuple[NDArray[Any], ...]], kinds: Sequence[bytes]) -> TrailTable:
        types = (np.int64, np.uint32, np.uint32, np.int32, np.int64)
        columns = zip(*(pieces or [tuple(np.zeros(0, one) for one in types)]), strict=True)
        moments, deeds, folders, kind, numbers = (np.concatenate(column) for column in columns)
        if len(moments) > 1 and (np.diff(moments) < 0).any():
            order = np.argsort(moments, kind="stable")
            moments, deeds, folders, kind, numbers = (one[order] for one in (moments, deeds, folders, kind, numbers))
        logins, places, paths = _Index(), _Index(), _Index()
        last = _last(self._db, "trail_deeds") + 1
        who, place = np.full(last, -1, np.int32), np.full(last, -1, np.int32)
        did, done = np.zeros(last, np.uint8), np.zeros(last, np.bool_)
        numbers_of = {_NUMBERS[one]: at for at, one in enumerate(DIDS)}
        for number, login, what, state, address, _ in _Words(self._db).of_system(system):
            who[number] = logins[login]
            did[number], done[number] = numbers_of[what], bool(state & _DONE)
            if address:
                place[number] = places[address]
        folder = np.full(_last(self._db, "trail_folders") + 1, -1, np.int32)
        for number, path in self._db.execute("SELECT id, path FROM trail_folders WHERE system = ?", (system,)):
            folder[number] = paths[path]
        return TrailTable(
            system, moments, numbers, who[deeds], did[deeds], done[deeds], folder[folders], place[deeds], kind,
            list(logins), list(paths), list(places), kinds,
        )  # fmt: skip


class _Index(dict[Any, int]):
    """The place of a thing among those that came before it."""

    def __missing__(self, key: Any) -> int:
        self[key] = found = len(self)
        return found


class _Numbers(dict[Any, int]):
    """The numbers of things in a table; what is new in it is written when it is first asked for."""

    def __init__(
        self,
        db: sqlite3.Connection,
        table: str,
        columns: str,
        extra: Callable[[Any], Mapping[str, object]] = lambda _: {},
    ) -> None:
        super().__init__()
        self._db, self._table, self._columns, self._extra = db, table, columns.split(", "), extra
        self._new: list[int] = []

    def __missing__(self, key: Any) -> int:
        values = tuple(_clean(one) if isinstance(one, str) else one for one in key)
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


def _seal_word(values: tuple[str, ...]) -> dict[str, object]:
    salt = os.urandom(16)
    return {"salt": salt, "digest": sha256(salt + values[1].encode()).digest()}


class _Words:
    """Deeds with their words in place of numbers."""

    def __init__(self, db: sqlite3.Connection) -> None:
        self._db = db

    _QUERY = (
        "SELECT d.id, w.text, d.did, d.state, ifnull(a.text, ''), ifnull(v.text, '') FROM trail_deeds AS d"
        " JOIN trail_words AS w ON w.id = d.who LEFT JOIN trail_words AS a ON a.id = d.address"
        " LEFT JOIN trail_words AS v ON v.id = d.device WHERE "
    )

    def of_system(self, system: str) -> Iterator[_Row]:
        """Yield all deeds of a system."""
        yield from self._db.execute(f"{self._QUERY} w.system = ?", (system,))

    def of(self, numbers: Iterable[int]) -> dict[int, _Row]:
        """Return the deeds of these numbers."""
        asked = json.dumps(list(numbers))
        rows = self._db.execute(f"{self._QUERY} d.id IN (SELECT value FROM json_each(?))", (asked,))
        return {row[0]: row for row in rows}


class _Places:
    """Which rows of a block are of some folders or files, or of what is below them."""

    def __init__(self, db: sqlite3.Connection, below: Collection[Address]) -> None:
        self._db = db
        self._within = np.zeros(_last(db, "trail_folders") + 1, np.bool_)
        self._things: dict[str, list[tuple[int, bytes]]] = {}
        for address in below:
            place = address.path.rstrip(b"/")
            # "/" comes before "0": the names between are those below the folder.
            within = "SELECT id FROM trail_folders WHERE system = ? AND (path = ? OR (path >= ? AND path < ?))"
            values = (address.system, place or b"/", place + b"/", place + b"0")
            self._within[[number for (number,) in db.execute(within, values)]] = True
            above, _, name = place.rpartition(b"/")
            row = db.execute(
                "SELECT id FROM trail_folders WHERE system = ? AND path = ?", (address.system, above or b"/")
            ).fetchone()
            if row is not None and name:
                self._things.setdefault(address.system, []).append((row[0], name))
        self._systems = {address.system for address in below}

    def mask(self, number: int, system: str, rows: int) -> NDArray[np.bool_]:
        if system not in self._systems:
            return np.zeros(rows, np.bool_)
        query = "SELECT folders, more FROM trail_blocks WHERE id = ?"
        packed, more = self._db.execute(query, (number,)).fetchone()
        folders = unpack(packed, rows)
        found: NDArray[np.bool_] = self._within[folders]
        things = self._things.get(system, ())
        for folder, name in things:
            places = np.flatnonzero(folders == folder)
            if len(places):
                query = "SELECT names FROM trail_blocks WHERE id = ?"
                names = NamesColumn(self._db.execute(query, (number,)).fetchone()[0], rows)
                found[[row for row in places.tolist() if names[row] == name]] = True
        for row, one in unpack_more(more).items():
            if one.dest and (self._within[one.dest] or (one.dest, one.dest_name) in things):
                found[row] = True
        return found


class _Teller:
    """Tells the rows of a block as records."""

    def __init__(self, db: sqlite3.Connection, block: _Block, words: _Words) -> None:
        query = "SELECT deeds, folders, names, more, numbers FROM trail_blocks WHERE id = ?"
        deeds, folders, names, more, numbers = db.execute(query, (block.id,)).fetchone()
        rows = block.rows
        self._deeds = unpack(deeds, rows)
        self._folders = unpack(folders, rows)
        self._names = NamesColumn(names, rows)
        self._more = unpack_more(more)
        self._numbers = None if numbers is None else unpack(numbers, rows)
        self._words = words.of(np.unique(self._deeds[block.wanted]).tolist())
        ids = set(np.unique(self._folders[block.wanted]).tolist())
        ids |= {one.dest for one in self._more.values()}
        found = db.execute(
            "SELECT id, path FROM trail_folders WHERE id IN (SELECT value FROM json_each(?))",
            (json.dumps(sorted(ids)),),
        )
        self._paths = {0: b"", **{number: path.rstrip(b"/") + b"/" for number, path in found}}

    def tell(self, row: int, moment: int) -> Record:
        _, login, did, state, address, device = self._words[int(self._deeds[row])]
        more = self._more.get(row, _NO_MORE)
        return Record(
            datetime.fromtimestamp(moment, UTC), login, _DIDS[did],
            self._paths[int(self._folders[row])] + self._names[row], self._paths[more.dest] + more.dest_name,
            bool(state & _DONE), bool(state & _FOLDER), address, device, more.detail,
            1 if self._numbers is None else int(self._numbers[row]),
        )  # fmt: skip


def _piece(rows: Rows, start: int) -> Rows:
    """Return the rows of one block."""
    part = slice(start, start + BLOCK_ROWS)
    more = {row - start: one for row, one in rows.more.items() if start <= row < start + BLOCK_ROWS}
    numbers = None if rows.numbers is None else rows.numbers[part]
    return Rows(rows.moments[part], rows.deeds[part], rows.folders[part], rows.names[part], more, numbers)


def _last(db: sqlite3.Connection, table: str) -> int:
    (last,) = db.execute(f"SELECT ifnull(max(id), 0) FROM {table}").fetchone()
    return int(last)


def _ending(name: bytes) -> bytes:
    stem, _, ending = name.rpartition(b".")
    return ending.lower() if stem else b""


def _moment(seconds: int) -> datetime:
    return datetime.fromtimestamp(seconds, UTC)


def _clean(text: str) -> str:
    """Return a text that can be stored: what could not be decoded stands in it as an escape."""
    return text.encode("utf-8", "backslashreplace").decode()
