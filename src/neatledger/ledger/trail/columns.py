"""Many records of one system as columns."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime
from typing import Any

import numpy as np
from numpy.typing import NDArray

from neatledger.core.trail.table import DIDS, TrailTable
from neatledger.ledger.engines.contract import Database
from neatledger.ledger.trail.blocks import NamesColumn, unpack, unpack_more
from neatledger.ledger.trail.words import DONE, NUMBERS, Index, Words, last_number

__all__ = ["read_table"]


def read_table(
    db: Database,
    system: str,
    since: datetime | None = None,
    until: datetime | None = None,
    kinds_since: datetime | None = None,
) -> TrailTable:
    """Return records of one system as columns; `Trail.table` says what the words mean.

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
    kinds = Index()
    for rows, start, last, moments, deeds, folders, names, more, numbers in db.execute(query, (system, first, end)):
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
    return _table(db, system, pieces, list(kinds))


def _table(
    db: Database, system: str, pieces: Sequence[tuple[NDArray[Any], ...]], kinds: Sequence[bytes]
) -> TrailTable:
    types = (np.int64, np.uint32, np.uint32, np.int32, np.int64)
    columns = zip(*(pieces or [tuple(np.zeros(0, one) for one in types)]), strict=True)
    moments, deeds, folders, kind, numbers = (np.concatenate(column) for column in columns)
    if len(moments) > 1 and (np.diff(moments) < 0).any():
        order = np.argsort(moments, kind="stable")
        moments, deeds, folders, kind, numbers = (one[order] for one in (moments, deeds, folders, kind, numbers))
    logins, places, paths = Index(), Index(), Index()
    last = last_number(db, "trail_deeds") + 1
    who, place = np.full(last, -1, np.int32), np.full(last, -1, np.int32)
    did, done = np.zeros(last, np.uint8), np.zeros(last, np.bool_)
    numbers_of = {NUMBERS[one]: at for at, one in enumerate(DIDS)}
    for number, login, what, state, address, _ in Words(db).of_system(system):
        who[number] = logins[login]
        did[number], done[number] = numbers_of[what], bool(state & DONE)
        if address:
            place[number] = places[address]
    folder = np.full(last_number(db, "trail_folders") + 1, -1, np.int32)
    for number, path in db.execute("SELECT id, path FROM trail_folders WHERE system = ?", (system,)):
        folder[number] = paths[path]
    return TrailTable(
        system, moments, numbers, who[deeds], did[deeds], done[deeds], folder[folders], place[deeds], kind,
        list(logins), list(paths), list(places), kinds,
    )  # fmt: skip


def _ending(name: bytes) -> bytes:
    stem, _, ending = name.rpartition(b".")
    return ending.lower() if stem else b""
