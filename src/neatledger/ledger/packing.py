"""Columns as compressed chunks: a million rows are some hundred blobs, and one row costs one chunk.

A chunk holds `CHUNK_ROWS` rows of one column. Numbers are little-endian of the column's dtype; byte
strings are their number n (u4), n + 1 offsets (u4), and then the strings end to end. Chunks can be read
without NumPy.
"""

from __future__ import annotations

import sys
import zlib
from array import array
from bisect import bisect_left
from collections.abc import Callable, Iterable, Iterator, Sequence
from itertools import accumulate, pairwise
from typing import Any, Literal, overload

from neatledger.errors import LedgerError

__all__ = [
    "CHUNK_ROWS",
    "MOST_BYTES",
    "BytesChunk",
    "BytesColumn",
    "inflate",
    "pack_column",
    "unpack_bytes",
    "unpack_numbers",
]

CHUNK_ROWS = 16384
MOST_BYTES = 1 << 28
"""Bytes of one chunk, unpacked: some 16 kB for each of its strings."""
Run = Callable[[Callable[[int], bytes], Iterable[int]], Iterable[bytes]]
_CASTS: dict[str, Literal["i", "q", "Q", "B"]] = {"i4": "i", "i8": "q", "u8": "Q", "u1": "B"}
if sys.byteorder != "little":
    # The packed columns are read in the machine's own order.
    raise ImportError("the ledger's columns cannot be read on a machine that writes the highest byte first")


def pack_column(column: Any, dtype: str, run: Run = map) -> Iterable[bytes]:
    """Return the chunks of a column: a NumPy array, or a list of byte strings for dtype ``bytes``.

    `run` does the work chunk by chunk, as `map` or a pool's own map (compressing lets other threads go on).
    """

    def pack(start: int) -> bytes:
        piece = column[start : start + CHUNK_ROWS]
        raw = _pack_bytes(piece) if dtype == "bytes" else piece.astype(dtype, copy=False).tobytes()
        return zlib.compress(raw, 1)

    return run(pack, range(0, len(column), CHUNK_ROWS))


def _pack_bytes(strings: list[bytes]) -> bytes:
    offsets = array("I", [len(strings), 0, *accumulate(map(len, strings))])
    return offsets.tobytes() + b"".join(strings)


def inflate(data: bytes, what: str, most: int = MOST_BYTES) -> bytes:
    """Return what was compressed, `most` bytes at most; raises `LedgerError` where it is damaged, or more."""
    unpacking = zlib.decompressobj()
    try:
        found = unpacking.decompress(data, most)
        # The end of the stream may be left over where the bound is met exactly.
        found += unpacking.decompress(unpacking.unconsumed_tail, 1)
    except zlib.error as error:
        raise LedgerError(f"{what} is damaged: {error}", hint="take a new count") from None
    if len(found) > most:
        raise LedgerError(f"{what} is larger than any is: more than {most:,} bytes", hint="take a new count")
    if not unpacking.eof or unpacking.unused_data:
        raise LedgerError(f"{what} is damaged: it is not whole", hint="take a new count")
    return found


def unpack_numbers(data: bytes, dtype: str, name: str) -> memoryview:
    """Return a chunk of numbers as a memoryview of Python integers."""
    raw = inflate(data, f"a chunk of the column {name}", CHUNK_ROWS * int(dtype[1:]))
    return memoryview(raw).cast(_CASTS[dtype])


class BytesChunk:
    """A chunk of byte strings, taken out one by one."""

    __slots__ = ("_offsets", "_raw", "_start")

    def __init__(self, raw: bytes) -> None:
        count = int.from_bytes(raw[:4], "little")
        self._raw = raw
        self._start = 4 * (count + 2)
        self._offsets = memoryview(raw)[4 : self._start].cast("I")

    def __len__(self) -> int:
        return len(self._offsets) - 1

    def __getitem__(self, place: int) -> bytes:
        return self._raw[self._start + self._offsets[place] : self._start + self._offsets[place + 1]]

    def places_of(self, text: bytes) -> Iterator[int]:
        """Yield where a string that is not empty stands, without taking the others out."""
        at = self._raw.find(text, self._start)
        while at >= 0:
            offset = at - self._start
            place = bisect_left(self._offsets, offset)
            # It must fill a whole string: begin at one and end where the next begins.
            if self._offsets[place] == offset:
                while place + 1 < len(self) and self._offsets[place + 1] == offset:
                    place += 1
                if place < len(self) and self._offsets[place + 1] == offset + len(text):
                    yield place
            at = self._raw.find(text, at + 1)

    def strings(self) -> list[bytes]:
        """Return all strings of the chunk."""
        raw, start = self._raw, self._start
        ends = self._offsets.tolist()
        return [raw[start + first : start + end] for first, end in pairwise(ends)]


def unpack_bytes(data: bytes, name: str) -> BytesChunk:
    """Return a chunk of byte strings."""
    return BytesChunk(inflate(data, f"a chunk of the column {name}"))


class BytesColumn(Sequence[bytes]):
    """A whole column of byte strings; a chunk is unpacked when one of its rows is first asked for."""

    def __init__(self, chunks: Iterable[bytes], name: str) -> None:
        self._packed = list(chunks)
        self._name = name
        self._open: dict[int, BytesChunk] = {}

    def __len__(self) -> int:
        last = len(self._packed) - 1
        return 0 if last < 0 else last * CHUNK_ROWS + len(self._chunk(last))

    def _chunk(self, number: int) -> BytesChunk:
        if number not in self._open:
            self._open[number] = unpack_bytes(self._packed[number], self._name)
        return self._open[number]

    @overload
    def __getitem__(self, place: int) -> bytes: ...
    @overload
    def __getitem__(self, place: slice) -> list[bytes]: ...
    def __getitem__(self, place: int | slice) -> bytes | list[bytes]:
        if isinstance(place, slice):
            return [self[row] for row in range(*place.indices(len(self)))]
        number, row = divmod(place, CHUNK_ROWS)
        chunk = self._open.get(number)
        return (self._chunk(number) if chunk is None else chunk)[row]

    def rows_of(self, text: bytes) -> Iterator[int]:
        """Yield the rows of a string that is not empty."""
        for number in range(len(self._packed)):
            yield from (number * CHUNK_ROWS + place for place in self._chunk(number).places_of(text))

    def __iter__(self) -> Iterator[bytes]:
        for number in range(len(self._packed)):
            yield from self._chunk(number).strings()
