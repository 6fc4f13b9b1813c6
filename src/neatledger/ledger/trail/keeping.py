"""How long records stay: one by one for some time, then added up by day, then gone; and one person's records removed.

Blocks are never altered: others take their place, and the chain holds a link that says so.
"""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import datetime, timedelta

import numpy as np
from numpy.typing import NDArray

from neatledger.core.trail.records import Did
from neatledger.ledger.chain import Chain, Subject
from neatledger.ledger.engines.contract import Database
from neatledger.ledger.trail.blocks import (
    BLOCK_ROWS,
    COLUMNS,
    More,
    NamesColumn,
    PackedBlock,
    Rows,
    unpack,
    unpack_more,
)
from neatledger.ledger.trail.words import DIDS, DONE, NUMBERS, Numbers, last_number, seal_word

__all__ = ["REMOVED", "Forgotten", "Thinned", "forget", "thin", "write_rows"]

REMOVED = "(removed)"
"""The login under which sums stand whose person was removed."""

_DAY = 86400
_SMALL_ROWS, _MANY_SMALL, _SETTLED_DAYS = BLOCK_ROWS // 4, 20, 7


@dataclass(frozen=True, slots=True)
class Thinned:
    """What became of a system's records: so many were added up into so many sums, and of so many the sums went."""

    added_up: int = 0
    sums: int = 0
    dropped: int = 0


@dataclass(frozen=True, slots=True)
class Forgotten:
    """What was removed of a person: records, which are sums of nobody now, and words that nobody else shares."""

    records: int
    words: int


def write_rows(db: Database, where: str, system: str, rows: Rows) -> None:
    """Write rows as blocks and seal them, within a transaction."""
    for start in range(0, len(rows), BLOCK_ROWS):
        packed = PackedBlock.of(_piece(rows, start))
        cursor = db.execute(
            f"INSERT INTO trail_blocks (system, first_moment, last_moment, rows, {', '.join(COLUMNS)})"
            " VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?)",
            (system, packed.first_moment, packed.last_moment, packed.rows, *packed.data),
        )
        number = int(cursor.lastrowid or 0)
        # Each has a link of its own: it may be dropped when its records are added up.
        Chain(db, where).add(Subject.TRAIL_BLOCKS, number, number)


def _piece(rows: Rows, start: int) -> Rows:
    """Return the rows of one block."""
    part = slice(start, start + BLOCK_ROWS)
    more = {row - start: one for row, one in rows.more.items() if start <= row < start + BLOCK_ROWS}
    numbers = None if rows.numbers is None else rows.numbers[part]
    return Rows(rows.moments[part], rows.deeds[part], rows.folders[part], rows.names[part], more, numbers)


def thin(db: Database, where: str, system: str, now: datetime, days: Mapping[Did, int], sum_days: int) -> Thinned:
    """Add up the records of a system that are older than their kind is kept, within a transaction.

    A block is taken up when something in it is a week older than that, so that none is written anew every day. Sums
    older than `sum_days` go. Small blocks of weeks ago become large ones.
    """
    cuts = np.zeros(max(DIDS) + 1, np.int64)
    for did, number in NUMBERS.items():
        cuts[number] = int((now - timedelta(days=days[did])).timestamp())
    drop_before = int((now - timedelta(days=sum_days)).timestamp())
    did_of, plain = _deeds_of(db)
    kept: list[Rows] = []
    due: list[Rows] = []
    taken: list[int] = []
    dropped = 0
    small = _small_blocks(db, system, int((now - timedelta(days=_SETTLED_DAYS)).timestamp()))
    slack = _SETTLED_DAYS * _DAY
    query = "SELECT id, numbers IS NULL FROM trail_blocks WHERE system = ? AND first_moment < ? ORDER BY id"
    for number, is_single in db.execute(query, (system, max(int(max(cuts)), drop_before) - slack)).fetchall():
        rows = _rows_of(db, number)
        ends = cuts[did_of[rows.deeds]] if is_single else np.full(len(rows), drop_before, np.int64)
        is_old = rows.moments < ends
        if not (rows.moments < ends - slack).any():
            continue
        taken.append(number)
        kept.append(_some(rows, ~is_old))
        if is_single:
            due.append(_some(rows, is_old))
        else:
            dropped += 0 if rows.numbers is None else int(rows.numbers[is_old].sum())
    for number in (one for one in small if one not in taken):
        taken.append(number)
        kept.append(_rows_of(db, number))
    if not taken:
        return Thinned()
    added_up = sum(len(one) for one in due)
    sums = _added_up(db, where, due, plain)
    is_sum = [one.numbers is not None for one in kept]
    records = _joined([one for one, is_one in zip(kept, is_sum, strict=True) if not is_one])
    older = _joined([one for one, is_one in zip(kept, is_sum, strict=True) if is_one])
    for rows in (records, older, sums):
        write_rows(db, where, system, rows)
    _drop(db, where, taken)
    return Thinned(added_up, len(sums), dropped)


def _small_blocks(db: Database, system: str, before: int) -> list[int]:
    query = (
        "SELECT id FROM trail_blocks"
        " WHERE system = ? AND last_moment < ? AND rows < ? AND numbers IS NULL ORDER BY id"
    )
    found = [number for (number,) in db.execute(query, (system, before, _SMALL_ROWS))]
    return found if len(found) >= _MANY_SMALL else []


def _deeds_of(db: Database) -> tuple[NDArray[np.int64], dict[int, tuple[int, int, int]]]:
    """Return the deed → what was done, and → who did what, and whether it was done."""
    did_of = np.zeros(last_number(db, "trail_deeds") + 1, np.int64)
    plain: dict[int, tuple[int, int, int]] = {}
    for number, who, did, state in db.execute("SELECT id, who, did, state FROM trail_deeds"):
        did_of[number] = did
        plain[number] = who, did, state & DONE
    return did_of, plain


def _rows_of(db: Database, number: int) -> Rows:
    query = f"SELECT rows, first_moment, {', '.join(COLUMNS)} FROM trail_blocks WHERE id = ?"
    rows, first, moments, deeds, folders, names, more, numbers = db.execute(query, (number,)).fetchone()
    return Rows(
        first + np.cumsum(unpack(moments, rows), dtype=np.int64), unpack(deeds, rows), unpack(folders, rows),
        list(NamesColumn(names, rows)), unpack_more(more), None if numbers is None else unpack(numbers, rows),
    )  # fmt: skip


def _some(rows: Rows, wanted: NDArray[np.bool_]) -> Rows:
    """Return some rows; what few have goes along."""
    places = np.flatnonzero(wanted).tolist()
    new = {old: place for place, old in enumerate(places)}
    more = {new[row]: one for row, one in rows.more.items() if row in new}
    numbers = None if rows.numbers is None else rows.numbers[wanted]
    names = [rows.names[row] for row in places]
    return Rows(rows.moments[wanted], rows.deeds[wanted], rows.folders[wanted], names, more, numbers)


def _joined(pieces: Sequence[Rows]) -> Rows:
    """Return rows of several blocks as one, in the order of time."""
    if not pieces:
        none = np.zeros(0, np.uint32)
        return Rows(np.zeros(0, np.int64), none, none, [], {})
    names = [name for one in pieces for name in one.names]
    starts = np.cumsum([0, *(len(one) for one in pieces)]).tolist()
    more = {start + row: each for start, one in zip(starts, pieces, strict=False) for row, each in one.more.items()}
    moments = np.concatenate([one.moments for one in pieces])
    order = np.argsort(moments, kind="stable")
    place = {old: new for new, old in enumerate(order.tolist())} if more else {}
    numbers = [one.numbers for one in pieces if one.numbers is not None]
    return Rows(
        moments[order],
        np.concatenate([one.deeds for one in pieces])[order],
        np.concatenate([one.folders for one in pieces])[order],
        [names[row] for row in order.tolist()],
        {place[row]: one for row, one in more.items()},
        np.concatenate(numbers)[order] if numbers else None,
    )


def _added_up(
    db: Database,
    where: str,
    pieces: Sequence[Rows],
    plain: Mapping[int, tuple[int, int, int]],
    who: int | None = None,
) -> Rows:
    """Return sums by day (UTC), person, deed and folder; each has the last moment of its records.

    From where, and of which file, is not in a sum. `who` is under whom they stand, if not under who it was.
    """
    rows = _joined([replace(one, names=[b""] * len(one), more={}) for one in pieces])
    if not len(rows):
        return rows
    numbers = Numbers(db, "trail_deeds", "who, did, state, address, device")
    of_sum = np.zeros(max(plain) + 1, np.uint32)
    for deed in np.unique(rows.deeds).tolist():
        whose, did, state = plain[deed]
        of_sum[deed] = numbers[whose if who is None else who, did, state, 0, 0]
    numbers.seal(Chain(db, where))
    deeds = of_sum[rows.deeds]
    amounts = np.ones(len(rows), np.int64) if rows.numbers is None else rows.numbers.astype(np.int64)
    order = np.lexsort((rows.moments, rows.folders, deeds, rows.moments // _DAY))
    keys = np.stack([(rows.moments // _DAY)[order], deeds[order], rows.folders[order]])
    is_end = np.append((keys[:, 1:] != keys[:, :-1]).any(axis=0), True)
    totals = np.diff(np.cumsum(amounts[order])[is_end], prepend=0)
    at = order[is_end]
    by_time = np.argsort(rows.moments[at], kind="stable")
    at, totals = at[by_time], totals[by_time]
    return Rows(
        rows.moments[at], deeds[at], rows.folders[at], [b""] * len(at), dict[int, More](), totals.astype(np.uint32)
    )


def _drop(db: Database, where: str, numbers: Collection[int]) -> None:
    for number in numbers:
        db.execute("DELETE FROM trail_blocks WHERE id = ?", (number,))
        Chain(db, where).add(Subject.DROPPED, number, number)


def forget(db: Database, where: str, logins: Collection[tuple[str, str]]) -> Forgotten:
    """Remove the records of some logins, within a transaction: sums of nobody are left in their place.

    Their logins, and addresses and devices that nobody else used, go too; what they stood for cannot be had back.
    """
    removed = words = 0
    for system, login in logins:
        query = "SELECT id FROM trail_words WHERE system = ? AND lower(text) = lower(?) AND salt IS NOT NULL"
        row = db.execute(query, (system, login)).fetchone()
        if row is None:
            continue
        known = Numbers(db, "trail_words", "system, text", seal_word)
        nobody = known[system, REMOVED]
        known.seal(Chain(db, where))
        removed += _without(db, where, system, row[0], nobody)
        words += _forget_words(db, where, row[0])
    return Forgotten(removed, words)


def _without(db: Database, where: str, system: str, who: int, nobody: int) -> int:
    _, plain = _deeds_of(db)
    is_theirs = np.zeros(last_number(db, "trail_deeds") + 1, np.bool_)
    is_theirs[[number for number, (whose, _, _) in plain.items() if whose == who]] = True
    removed = 0
    for number, rows_number, packed in db.execute(
        "SELECT id, rows, deeds FROM trail_blocks WHERE system = ? ORDER BY id", (system,)
    ).fetchall():
        mine = is_theirs[unpack(packed, rows_number)]
        if not mine.any():
            continue
        rows = _rows_of(db, number)
        theirs = _some(rows, mine)
        removed += len(theirs) if theirs.numbers is None else int(theirs.numbers.sum())
        write_rows(db, where, system, _some(rows, ~mine))
        write_rows(db, where, system, _added_up(db, where, [theirs], plain, nobody))
        _drop(db, where, [number])
    return removed


def _forget_words(db: Database, where: str, who: int) -> int:
    """Forget a login with the addresses and devices that no other login ever came from."""
    places = {
        place
        for row in db.execute("SELECT address, device FROM trail_deeds WHERE who = ?", (who,))
        for place in row
        if place
    }
    shared = {
        place for row in db.execute("SELECT address, device FROM trail_deeds WHERE who <> ?", (who,)) for place in row
    }
    for number in (who, *sorted(places - shared)):
        db.execute("UPDATE trail_words SET text = '', salt = NULL WHERE id = ?", (number,))
        Chain(db, where).add(Subject.FORGOTTEN, number, number)
    return 1 + len(places - shared)
