"""Seals: what shows that the plain rows of a count are those that were written.

Packed columns carry a check sum of their own (RFC 1950); rows of text and numbers do not, and a disk that loses bits
would give somebody else's name without a word. A seal says which columns it is over, so that later versions may add
some.
"""

from __future__ import annotations

import json
import re
from hashlib import blake2b

from neatledger.errors import LedgerError
from neatledger.ledger.engines.contract import ENGINE_ERRORS, Database

__all__ = ["check_seal", "seal_survey"]

# Table → the column by which its rows belong to a survey, and their order.
_SEALED = {
    "surveys": ("id", "id"),
    "accounts": ("survey_id", "place"),
    "account_groups": ("survey_id", "place"),
    "not_seen": ("survey_id", "place"),
}
_WORD = re.compile(r"[a-z_]+")


def seal_survey(db: Database, survey: int) -> None:
    """Seal the rows of a survey, all of which have been written."""
    for table in _SEALED:
        columns = db.columns_of(table)
        row = survey, table, json.dumps(columns), _digest(db, survey, table, columns)
        db.execute("INSERT INTO seals VALUES (?, ?, ?, ?)", row)


def check_seal(db: Database, survey: int, table: str) -> None:
    """Raise `LedgerError` where the rows of a table are not those that were sealed; older counts have no seals."""
    try:
        rows = db.execute("SELECT columns, digest FROM seals WHERE survey_id = ? AND name = ?", (survey, table))
        for text, digest in rows.fetchall():
            columns = json.loads(text)
            if not all(isinstance(name, str) and _WORD.fullmatch(name) for name in columns):
                raise ValueError("a seal over what is no column")
            if _digest(db, survey, table, columns) != digest:
                raise ValueError("its rows are not those that were written")
    except (*ENGINE_ERRORS, ValueError, TypeError) as error:
        raise LedgerError(f"the table {table} is damaged: {error}", hint="take a new count") from None


def _digest(db: Database, survey: int, table: str, columns: list[str]) -> bytes:
    key, order = _SEALED[table]
    found = blake2b(digest_size=16)
    for row in db.execute(f"SELECT {', '.join(columns)} FROM {table} WHERE {key} = ? ORDER BY {order}", (survey,)):
        found.update(repr(row).encode("utf-8", "surrogatepass"))
    return found.digest()
