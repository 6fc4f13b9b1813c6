"""Blocks of records: columns end to end, compressed apart, so that a question opens those that it needs.

A block holds up to `BLOCK_ROWS` records of one system in the order of time: seconds since the record before, the
number of who did what from where (*deed*), the number of the folder, the name in it. What few records have (where
something was moved to, further words) stands apart, by row. A row may stand for several records of one day, added up.
"""

from __future__ import annotations

import json
import zlib
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from neatledger.errors import LedgerError

__all__ = ["BLOCK_ROWS", "COLUMNS", "More", "PackedBlock", "Rows", "unpack", "unpack_more", "unpack_names"]

BLOCK_ROWS = 16_384
COLUMNS = ("moments", "deeds", "folders", "names", "more", "numbers")
"""The columns of a block as they stand in the ledger; `numbers` is null where every row is one record."""
_LEVEL = 6
_DTYPE = "<u4"


@dataclass(frozen=True, slots=True)
class More:
    """What few records have: where something was moved to (a folder's number, a name), and further words."""

    dest: int
    dest_name: bytes
    detail: str


@dataclass(slots=True)
class Rows:
    """Records as columns, in the order of time; `moments` are seconds since 1970 (UTC)."""

    moments: NDArray[np.int64]
    deeds: NDArray[np.uint32]
    folders: NDArray[np.uint32]
    names: Sequence[bytes]
    more: Mapping[int, More]
    numbers: NDArray[np.uint32] | None = None

    def __len__(self) -> int:
        return len(self.moments)


@dataclass(frozen=True, slots=True)
class PackedBlock:
    """A block as it stands in the ledger; `data` are the columns of `COLUMNS`."""

    first_moment: int
    last_moment: int
    rows: int
    data: tuple[bytes | None, ...]

    @classmethod
    def of(cls, rows: Rows) -> PackedBlock:
        """Pack rows, of which there is at least one."""
        first = int(rows.moments[0])
        steps = np.diff(rows.moments, prepend=first).astype(_DTYPE)
        more = [
            [row, one.dest, one.dest_name.decode("utf-8", "surrogateescape"), one.detail]
            for row, one in sorted(rows.more.items())
        ]
        pieces = [
            steps.tobytes(),
            rows.deeds.astype(_DTYPE, copy=False).tobytes(),
            rows.folders.astype(_DTYPE, copy=False).tobytes(),
            # No name of a file holds a slash.
            b"/".join(rows.names),
            json.dumps(more, separators=(",", ":")).encode(),
            None if rows.numbers is None else rows.numbers.astype(_DTYPE, copy=False).tobytes(),
        ]
        data = tuple(None if one is None else zlib.compress(one, _LEVEL) for one in pieces)
        return cls(first, int(rows.moments[-1]), len(rows), data)


def _inflate(data: bytes) -> bytes:
    try:
        return zlib.decompress(data)
    except (zlib.error, TypeError) as error:
        raise LedgerError(f"a block of the trail is damaged: {error}", hint="counts --prove says more") from None


def unpack(data: bytes, rows: int) -> NDArray[np.uint32]:
    """Return a column of numbers; raises `LedgerError` where it is not as long as it must be."""
    found = np.frombuffer(_inflate(data), _DTYPE)
    if len(found) != rows:
        raise LedgerError("a block of the trail is damaged: it has lost rows", hint="counts --prove says more")
    return found


def unpack_names(data: bytes, rows: int) -> list[bytes]:
    """Return the column of names; raises `LedgerError`."""
    found = _inflate(data).split(b"/")
    if len(found) != rows:
        raise LedgerError("a block of the trail is damaged: it has lost names", hint="counts --prove says more")
    return found


def unpack_more(data: bytes) -> dict[int, More]:
    """Return what few records have, by row; raises `LedgerError`."""
    try:
        told: list[list[Any]] = json.loads(_inflate(data))
        return {row: More(dest, name.encode("utf-8", "surrogateescape"), detail) for row, dest, name, detail in told}
    except (ValueError, TypeError, AttributeError) as error:
        raise LedgerError(f"a block of the trail is damaged: {error}", hint="counts --prove says more") from None
