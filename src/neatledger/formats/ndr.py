"""Network data representation, as remote procedure calls write it: numbers, pointers, strings, arrays.

Source: C706 chapter 14 (transfer syntax NDR, little-endian), MS-RPCE 2.2.4; RPC_UNICODE_STRING and RPC_SID of
MS-DTYP 2.3.10 and 2.4.2.3. Reading is total: bytes that end too soon, or tell of more than there is, are a
`FormatError`, and nothing is set aside for what only a count promises.
"""

from __future__ import annotations

import struct
from collections.abc import Callable, Sequence
from typing import TypeVar

from neatledger.core.lists.descriptors import pack_sid, unpack_sid
from neatledger.errors import FormatError

__all__ = ["NdrReader", "NdrWriter"]

T = TypeVar("T")
_FIRST_REFERENT, _STEP = 0x00020000, 4  # any number but 0 is a pointer (C706 14.3.10)


class NdrReader:
    """The answer of one call, read from its start; each read goes on where the last one ended."""

    def __init__(self, data: bytes) -> None:
        self._data, self._at = data, 0

    def take(self, size: int) -> bytes:
        """Return the next bytes as they stand; raises `FormatError` where there are fewer."""
        if size > len(self._data) - self._at:
            raise FormatError(f"an answer ends at byte {len(self._data)}, where {size} more are due")
        self._at += size
        return self._data[self._at - size : self._at]

    def align(self, size: int) -> None:
        """Skip to the next multiple of a size (C706 14.2.2)."""
        self.take(-self._at % size)

    def u16(self) -> int:
        """Return a number of 16 bits."""
        self.align(2)
        return int.from_bytes(self.take(2), "little")

    def u32(self) -> int:
        """Return a number of 32 bits."""
        self.align(4)
        return int.from_bytes(self.take(4), "little")

    def large(self) -> int:
        """Return a number of 64 bits that is written as two of 32, the lower first (OLD_LARGE_INTEGER)."""
        low = self.u32()
        return low | self.u32() << 32

    def points(self) -> bool:
        """Read a pointer: tell whether something stands behind it, further on (C706 14.3.10)."""
        return self.u32() != 0

    def count(self, least: int) -> int:
        """Return how many elements an array has, each of at least that many bytes (C706 14.3.3.2)."""
        number = self.u32()
        if number * least > len(self._data) - self._at:
            raise FormatError(f"an answer tells of {number} elements and has no room for them")
        return number

    def text(self) -> str:
        """Return a string of 16-bit characters, without what ends it (C706 14.3.4.2)."""
        most, offset, number = self.u32(), self.u32(), self.u32()
        if offset or number > most:
            raise FormatError(f"a string of {number} characters from {offset} in room for {most}")
        return self.take(2 * number).decode("utf-16-le", "surrogatepass").rstrip("\0")

    def blob(self) -> bytes:
        """Return an array of bytes."""
        return self.take(self.count(1))

    def sid(self) -> str:
        """Return a security identifier, its last part counted ahead of it (MS-DTYP 2.4.2.3)."""
        number = self.u32()
        body = self.take(8 + 4 * number)
        if body[1] != number:
            raise FormatError(f"an identifier with {body[1]} parts where {number} are told")
        return unpack_sid(body)

    def array(self, least: int, element: Callable[[], T]) -> list[T]:
        """Return the elements of an array that tells its own number first."""
        return [element() for _ in range(self.count(least))]

    def string_head(self) -> bool:
        """Read an RPC_UNICODE_STRING's own part: tell whether its characters follow further on."""
        self.align(4)
        self.take(4)
        return self.points()

    def end(self) -> None:
        """Tell that nothing may follow; raises `FormatError`."""
        if self._at != len(self._data):
            raise FormatError(f"{len(self._data) - self._at} bytes more than an answer should have")


class NdrWriter:
    """The words of one call, written one after another; `data` is what was written."""

    def __init__(self) -> None:
        self.data = b""
        self._referent = _FIRST_REFERENT

    def raw(self, data: bytes, align: int = 1) -> NdrWriter:
        """Write bytes as they stand, from a multiple of a size."""
        self.data += bytes(-len(self.data) % align) + data
        return self

    def u16(self, number: int) -> NdrWriter:
        """Write a number of 16 bits."""
        return self.raw(struct.pack("<H", number), 2)

    def u32(self, *numbers: int) -> NdrWriter:
        """Write numbers of 32 bits."""
        return self.raw(struct.pack(f"<{len(numbers)}I", *numbers), 4)

    def pointer(self) -> NdrWriter:
        """Write a pointer to something that follows."""
        self._referent += _STEP
        return self.u32(self._referent)

    def text(self, text: str) -> NdrWriter:
        """Write a string with the character that ends it."""
        number = len(text.encode("utf-16-le", "surrogatepass")) // 2 + 1
        return self.u32(number, 0, number).raw(f"{text}\0".encode("utf-16-le", "surrogatepass"))

    def unicode_string(self, text: str) -> NdrWriter:
        """Write an RPC_UNICODE_STRING and its characters."""
        body = text.encode("utf-16-le", "surrogatepass")
        self.raw(struct.pack("<HH", len(body), len(body)), 4).pointer()
        return self.u32(len(body) // 2, 0, len(body) // 2).raw(body)

    def sid(self, sid: str) -> NdrWriter:
        """Write a security identifier."""
        body = pack_sid(sid)
        return self.u32(body[1]).raw(body)

    def sids(self, sids: Sequence[str]) -> NdrWriter:
        """Write an array of pointers to identifiers, and then these."""
        self.u32(len(sids))
        for _ in sids:
            self.pointer()
        for sid in sids:
            self.sid(sid)
        return self
