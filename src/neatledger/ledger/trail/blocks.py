"""Blocks of records: columns end to end, compressed apart, so that a question opens those that it needs.

A block holds up to `BLOCK_ROWS` records of one system in the order of time: seconds since the record before, the
number of who did what from where (*deed*), the number of the folder, the name in it. What few records have (where
something was moved to, further words) stands apart, by row. A row may stand for several records of one day, added up.
"""

from __future__ import annotations

import json
import zlib
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from neatledger.errors import LedgerError

__all__ = ["BLOCK_ROWS", "COLUMNS", "More", "NamesColumn", "PackedBlock", "Rows", "unpack", "unpack_more"]

BLOCK_ROWS = 16_384
COLUMNS = ("moments", "deeds", "folders", "names", "more", "numbers")
"""The columns of a block as they stand in the ledger; `numbers` is null where every row is one record."""
_LEVEL = 6
_NAMES_AT_ONCE = 1024  # are compressed together: of a folder few names of a block are asked for
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
            json.dumps(more, separators=(",", ":")).encode(),
            None if rows.numbers is None else rows.numbers.astype(_DTYPE, copy=False).tobytes(),
        ]
        data = [None if one is None else zlib.compress(one, _LEVEL) for one in pieces]
        data.insert(COLUMNS.index("names"), _pack_names(rows.names))
        return cls(first, int(rows.moments[-1]), len(rows), tuple(data))


def _inflate(data: bytes) -> bytes:
    try:
        return zlib.decompress(data)
    except (zlib.error, TypeError) as error:
        raise _damaged(error) from None


def unpack(data: bytes, rows: int) -> NDArray[np.uint32]:
    """Return a column of numbers; raises `LedgerError` where it is not as long as it must be."""
    found = np.frombuffer(_inflate(data), _DTYPE)
    if len(found) != rows:
        raise _damaged("it has lost rows")
    return found


def _pack_names(names: Sequence[bytes]) -> bytes:
    """Return how many pieces there are, the length of each (u4), and the pieces."""
    # No name of a file holds a slash.
    pieces = [
        zlib.compress(b"/".join(names[start : start + _NAMES_AT_ONCE]), _LEVEL)
        for start in range(0, len(names), _NAMES_AT_ONCE)
    ]
    lengths = np.array([len(pieces), *map(len, pieces)], _DTYPE)
    return lengths.tobytes() + b"".join(pieces)


class NamesColumn:
    """The column of names; a piece of it is unpacked when one of its rows is first asked for."""

    def __init__(self, data: bytes, rows: int) -> None:
        """Take the packed column; raises `LedgerError` where it cannot have so many rows."""
        number = -(-rows // _NAMES_AT_ONCE)
        lengths = np.frombuffer(data, _DTYPE, min(number + 1, len(data) // 4))
        if len(lengths) != number + 1 or lengths[0] != number:
            raise _damaged("it has lost names")
        ends = np.cumsum(lengths, dtype=np.int64) - lengths[0] + 4 * (number + 1)
        self._data, self._rows, self._ends = data, rows, ends.tolist()
        self._open: dict[int, list[bytes]] = {}

    def __getitem__(self, row: int) -> bytes:
        piece, place = divmod(row, _NAMES_AT_ONCE)
        names = self._open.get(piece)
        if names is None:
            names = self._open[piece] = self._piece(piece)
        return names[place]

    def _piece(self, number: int) -> list[bytes]:
        names = _inflate(self._data[self._ends[number] : self._ends[number + 1]]).split(b"/")
        if len(names) != min(_NAMES_AT_ONCE, self._rows - number * _NAMES_AT_ONCE):
            raise _damaged("it has lost names")
        return names

    def __iter__(self) -> Iterator[bytes]:
        for number in range(len(self._ends) - 1):
            yield from self._piece(number)


def _damaged(why: object) -> LedgerError:
    return LedgerError(f"a block of the trail is damaged: {why}", hint="ledger --verify says more")


def unpack_more(data: bytes) -> dict[int, More]:
    """Return what few records have, by row; raises `LedgerError`."""
    try:
        told: list[list[Any]] = json.loads(_inflate(data))
        return {row: More(dest, name.encode("utf-8", "surrogateescape"), detail) for row, dest, name, detail in told}
    except (ValueError, TypeError, AttributeError) as error:
        raise _damaged(error) from None
