"""A whole ledger into another engine: every row as it is, so that the chain still holds there."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from itertools import islice

from neatledger.errors import LedgerError
from neatledger.ledger.chain import Chain
from neatledger.ledger.engines.contract import ENGINE_ERRORS, Database
from neatledger.ledger.store import Ledger, refused
from neatledger.ledger.writing import transaction

__all__ = ["move_ledger"]

# Table → its order; each after those that it refers to.
_TABLES = {
    "counts": "id", "surveys": "id", "accounts": "survey_id, place", "account_groups": "survey_id, place",
    "not_seen": "survey_id, place", "packed": "survey_id, name, chunk", "shared": "survey_id",
    "seals": "survey_id, name", "journal": "id", "findings": "id", "reviews": "id", "notices": "id",
    "trail_logs": "id", "trail_words": "id", "trail_folders": "id", "trail_deeds": "id", "trail_blocks": "id",
    "trail_moves": "id", "trail_gaps": "id", "plans": "id", "chain": "id",
}  # fmt: skip
_AT_ONCE = 200


def move_ledger(source: Ledger, target: Ledger, step: Callable[[int], object] = lambda _: None) -> int:
    """Write all that a ledger holds into an empty one, and return how many links its chain has; raises `LedgerError`.

    Nothing is written where the other is not empty, or where its chain would not hold. Nobody else writes meanwhile;
    the source stays as it was.
    """
    try:
        # Asked before anything is locked, for it may be the same one; and again, when nobody else can write any more.
        _refuse_what_is_there(target)
        with transaction(source.database), transaction(target.database):
            _refuse_what_is_there(target)
            for table, order in _TABLES.items():
                _copy(source.database, target.database, table, order, step)
            target.database.number_on()
            proof = Chain(target.database, target.where).prove()
            if not proof.holds:
                broken = proof.first_broken
                why = broken.why if broken is not None else proof.loose[0]
                raise LedgerError(f"what was written does not hold: {why}", target.where, "nothing was kept there")
    except ENGINE_ERRORS as error:
        raise refused(error, target.where) from error
    return len(proof.links)


def _refuse_what_is_there(target: Ledger) -> None:
    for table in ("counts", "chain"):
        if target.database.execute(f"SELECT 1 FROM {table} LIMIT 1").fetchone() is not None:
            raise LedgerError("there is a ledger already", target.where, "move into one that is empty")


def _copy(source: Database, target: Database, table: str, order: str, step: Callable[[int], object]) -> None:
    columns = source.columns_of(table)
    if columns != target.columns_of(table):
        raise LedgerError(f"the table {table} has other columns there")
    names = ", ".join(f'"{name}"' for name in columns)
    insert = f"INSERT INTO {table} ({names}) VALUES ({', '.join('?' * len(columns))})"
    for rows in _pieces(source, f"SELECT {names} FROM {table} ORDER BY {order}"):
        target.executemany(insert, rows)
        step(len(rows))


def _pieces(source: Database, query: str) -> Iterator[Sequence[Sequence[object]]]:
    rows = iter(source.execute(query))
    while piece := list(islice(rows, _AT_ONCE)):
        yield piece
