"""Finding records: which rows of which blocks are wanted, and telling them one by one in the order of time."""

from __future__ import annotations

import json
from collections.abc import Callable, Collection, Iterator, Mapping, Sequence
from contextlib import suppress
from dataclasses import dataclass
from datetime import UTC, datetime
from ipaddress import IPv4Network, IPv6Network, ip_address, ip_network

import numpy as np
from numpy.typing import NDArray

from neatledger.core.trail.records import Did, Record, Severity, severity_of
from neatledger.core.tree.address import Address
from neatledger.ledger.engines.contract import Database
from neatledger.ledger.trail.blocks import More, NamesColumn, unpack, unpack_more
from neatledger.ledger.trail.words import DIDS, DONE, FOLDER, NUMBERS, Words, last_number, reading

__all__ = ["Selection", "origins_of", "select"]

_NO_MORE = More(0, b"", "")
_NEVER = 2**62
_OPEN_BLOCKS = 8  # whose names stay unpacked while records are told in the order of time


@dataclass
class _Block:
    """A block of which some rows are wanted; its columns are read when they are asked for."""

    db: Database
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
        return self.all_moments[self.wanted]

    @property
    def all_moments(self) -> NDArray[np.int64]:
        """When all rows were, in seconds since 1970 (UTC)."""
        (packed,) = self.db.execute("SELECT moments FROM trail_blocks WHERE id = ?", (self.id,)).fetchone()
        found: NDArray[np.int64] = self.first_moment + np.cumsum(unpack(packed, self.rows), dtype=np.int64)
        return found


class Selection:
    """Records that were found and not yet told."""

    def __init__(self, db: Database, where: str, blocks: Sequence[_Block]) -> None:
        self._db, self._where, self._blocks = db, where, blocks

    @property
    def number(self) -> int:
        """How many records there are."""
        return sum(one.records for one in self._blocks)

    @property
    def rows(self) -> int:
        """How many rows tell of them: those of a day that were added up are one."""
        return sum(len(one.wanted) for one in self._blocks)

    @property
    def refused(self) -> int:
        """How many records there are of what was refused."""
        with reading(self._where):
            is_refused = _mask_of_deeds(self._db, None, None, False, Severity.INFO, None)
            number = 0
            for one in self._blocks:
                query = "SELECT deeds, numbers FROM trail_blocks WHERE id = ?"
                deeds, numbers = self._db.execute(query, (one.id,)).fetchone()
                mine = is_refused[unpack(deeds, one.rows)[one.wanted]]
                amounts = mine if numbers is None else unpack(numbers, one.rows)[one.wanted][mine]
                number += int(amounts.sum())
            return number

    def last_by_login(self) -> dict[str, int]:
        """Return the login → the last moment (seconds since 1970, UTC); raises `LedgerError`."""
        with reading(self._where):
            newest = np.full(last_number(self._db, "trail_deeds") + 1, -1, np.int64)
            for one in self._blocks:
                query = "SELECT deeds FROM trail_blocks WHERE id = ?"
                deeds = unpack(self._db.execute(query, (one.id,)).fetchone()[0], one.rows)[one.wanted]
                np.maximum.at(newest, deeds, one.moments)
            found: dict[str, int] = {}
            deed_rows = Words(self._db).of(np.flatnonzero(newest >= 0).tolist())
            for number, (_, login, *_) in deed_rows.items():
                found[login] = max(int(newest[number]), found.get(login, -1))
            return found

    def records(self, newest: int | None = None) -> Iterator[tuple[str, Record]]:
        """Yield systems and records in the order of time; raises `LedgerError`.

        `newest` are at least so many of the last, without one left out in between (None: all).
        """
        with reading(self._where):
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
        words = Words(self._db)
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


def select(
    db: Database,
    where: str,
    *,
    logins: Collection[tuple[str, str]] | None = None,
    below: Mapping[Address, datetime | None] | None = None,
    dids: Collection[Did] | None = None,
    is_done: bool | None = None,
    severity: Severity = Severity.INFO,
    origins: Collection[str] | None = None,
    since: datetime | None = None,
    until: datetime | None = None,
) -> Selection:
    """Find records of a ledger; `Trail.select` says what the words mean."""
    with reading(where):
        deeds = None
        if severity or any(one is not None for one in (logins, dids, is_done, origins)):
            deeds = _mask_of_deeds(db, logins, dids, is_done, severity, origins)
        places = None if below is None else _Places(db, below)
        return Selection(db, where, list(_wanted(db, deeds, places, since, until)))


def origins_of(db: Database) -> dict[int, str]:
    """Return the addresses and devices that records tell of, by their numbers."""
    return dict(db.execute("SELECT id, text FROM trail_words WHERE system = '' AND salt IS NOT NULL").fetchall())


def _words_of_origins(db: Database, origins: Collection[str]) -> list[int]:
    """Return the numbers of addresses and devices: of these names, or in these networks (RFC 4632, RFC 4291)."""
    names, networks = {one.casefold() for one in origins}, list[IPv4Network | IPv6Network]()
    for one in origins:
        with suppress(ValueError):
            networks.append(ip_network(one, strict=False))
    found = []
    for number, text in origins_of(db).items():
        is_wanted = text.casefold() in names
        if not is_wanted and networks:
            with suppress(ValueError):
                address = ip_address(text)
                is_wanted = any(address.version == one.version and address in one for one in networks)
        if is_wanted:
            found.append(number)
    return found


def _wanted(
    db: Database,
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
    for number, system, rows, start, last, column, numbers in db.execute(query, (first, end)).fetchall():
        block = _Block(db, number, system, rows, start, last, np.arange(rows))
        mask = np.ones(rows, np.bool_)
        if deeds is not None:
            mask &= deeds[unpack(column, rows)]
        if places is not None and mask.any():
            mask &= places.mask(block)
        if not mask.any():
            continue
        block.wanted = np.flatnonzero(mask)
        if start < first or last >= end:
            moments = block.moments
            block.wanted = block.wanted[(moments >= first) & (moments < end)]
        if len(block.wanted):
            block.records = len(block.wanted)
            if numbers is not None:
                block.records = int(unpack(numbers, rows)[block.wanted].sum())
            yield block


def _mask_of_deeds(
    db: Database,
    logins: Collection[tuple[str, str]] | None,
    dids: Collection[Did] | None,
    is_done: bool | None,
    severity: Severity,
    origins: Collection[str] | None,
) -> NDArray[np.bool_]:
    conditions, values = ["1 = 1"], list[object]()
    if logins is not None:
        conditions.append(
            "who IN (SELECT w.id FROM json_each(?) AS j JOIN trail_words AS w"
            " ON w.system = j.value ->> 0 AND lower(w.text) = lower(j.value ->> 1))"
        )
        values.append(json.dumps([list(pair) for pair in logins]))
    if dids is not None:
        conditions.append("did IN (SELECT value FROM json_each(?))")
        values.append(json.dumps([NUMBERS[one] for one in dids]))
    if origins is not None:
        words = _words_of_origins(db, origins)
        conditions.append(
            "(address IN (SELECT value FROM json_each(?)) OR device IN (SELECT value FROM json_each(?)))"
        )
        values += [json.dumps(words)] * 2
    if severity:
        some = [
            f"(did = {NUMBERS[did]} AND (state & {DONE}) = {DONE * done})"
            for did in Did
            for done in (True, False)
            if severity_of(did, is_done=done) >= severity
        ]
        conditions.append(f"({' OR '.join(some)})")
    if is_done is not None:
        conditions.append(f"(state & {DONE}) = {DONE if is_done else 0}")
    mask = np.zeros(last_number(db, "trail_deeds") + 1, np.bool_)
    found = db.execute(f"SELECT id FROM trail_deeds WHERE {' AND '.join(conditions)}", values).fetchall()
    mask[[number for (number,) in found]] = True
    return mask


class _Places:
    """Which rows of a block are of some folders or files, or of what is below them, until each had another name."""

    def __init__(self, db: Database, below: Mapping[Address, datetime | None]) -> None:
        self._db = db
        self._places = [_Place(db, address, until) for address, until in below.items()]

    def mask(self, block: _Block) -> NDArray[np.bool_]:
        found = np.zeros(block.rows, np.bool_)
        places = [one for one in self._places if one.system == block.system and one.until > block.first_moment]
        if not places:
            return found
        query = "SELECT folders, more FROM trail_blocks WHERE id = ?"
        packed, more = self._db.execute(query, (block.id,)).fetchone()
        folders = unpack(packed, block.rows)
        moved = unpack_more(more)
        for place in places:
            mine = place.within[folders]
            at = np.flatnonzero(folders == place.folder)
            if place.folder and len(at):
                query = "SELECT names FROM trail_blocks WHERE id = ?"
                names = NamesColumn(self._db.execute(query, (block.id,)).fetchone()[0], block.rows)
                mine[[row for row in at.tolist() if names[row] == place.name]] = True
            for row, one in moved.items():
                if one.dest and (place.within[one.dest] or (one.dest, one.dest_name) == (place.folder, place.name)):
                    mine[row] = True
            if mine.any() and place.until <= block.last_moment:
                mine &= block.all_moments <= place.until
            found |= mine
        return found


class _Place:
    """One folder or file: `within` marks the folders at or below it, `folder` and `name` are where itself lies."""

    def __init__(self, db: Database, address: Address, until: datetime | None) -> None:
        self.system = address.system
        self.until = _NEVER if until is None else int(until.timestamp())
        place = address.path.rstrip(b"/")
        # "/" comes before "0": the names between are those below the folder.
        within = "SELECT id FROM trail_folders WHERE system = ? AND (path = ? OR (path >= ? AND path < ?))"
        values = (address.system, place or b"/", place + b"/", place + b"0")
        self.within = np.zeros(last_number(db, "trail_folders") + 1, np.bool_)
        self.within[[number for (number,) in db.execute(within, values)]] = True
        above, _, self.name = place.rpartition(b"/")
        row = db.execute(
            "SELECT id FROM trail_folders WHERE system = ? AND path = ?", (address.system, above or b"/")
        ).fetchone()
        self.folder = row[0] if row is not None and self.name else 0


class _Teller:
    """Tells the rows of a block as records."""

    def __init__(self, db: Database, block: _Block, words: Words) -> None:
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
        path = self._paths[int(self._folders[row])] + self._names[row]
        if self._numbers is not None:
            # A sum is of a folder and of no file in it.
            path = path.rstrip(b"/") or path
        return Record(
            datetime.fromtimestamp(moment, UTC), login, DIDS[did],
            path, self._paths[more.dest] + more.dest_name,
            bool(state & DONE), bool(state & FOLDER), address, device, more.detail,
            1 if self._numbers is None else int(self._numbers[row]),
        )  # fmt: skip
