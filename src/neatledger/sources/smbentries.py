"""Rows of a folder as an SMB server tells them. Source: MS-FSCC 2.4.21, FileIdFullDirectoryInformation."""

from __future__ import annotations

import struct
from dataclasses import dataclass

from neatledger.sources.smberrors import Lost

__all__ = ["Entry", "seconds_of", "unpack_entries"]

_ROW = struct.Struct("<IIQQQQQQIIIIQ")
_EPOCH = 116444736000000000  # 1970 in 100 ns since 1601
_DIRECTORY, _REPARSE = 0x10, 0x400


@dataclass(frozen=True, slots=True)
class Entry:
    """One row of a folder: name, whether it is a folder or a link, sizes (bytes), time (s), identity.

    `touched` is when anything of it changed last, its descriptor too (100 ns since 1601).
    """

    name: str
    is_folder: bool
    is_link: bool
    size: int
    occupied: int
    changed: int
    identity: int
    touched: int = 0


def seconds_of(ticks: int) -> int:
    """Return a moment of 100 ns since 1601 as Unix seconds."""
    return (ticks - _EPOCH) // 10_000_000


def unpack_entries(data: bytes) -> list[Entry]:
    """Return the rows, without the folder itself and the one above; raises `Lost` for what is cut off."""
    found, start = [], 0
    while True:
        if start + _ROW.size > len(data):
            raise Lost("a listing that is cut off")
        following, *_, written, touched, size, occupied, marks, length, _, _, ident = _ROW.unpack_from(data, start)
        first = start + _ROW.size
        if length % 2 or first + length > len(data) or (following and following < _ROW.size + length):
            raise Lost("a listing that is cut off")
        name = data[first : first + length].decode("utf-16-le", "surrogatepass")
        if name not in (".", ".."):
            is_link = bool(marks & _REPARSE)
            is_folder = bool(marks & _DIRECTORY) and not is_link
            found.append(Entry(name, is_folder, is_link, size, occupied, seconds_of(written), ident, touched))
        if not following:
            return found
        start += following
