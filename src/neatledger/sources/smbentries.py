"""Rows of a folder as an SMB server tells them. Source: MS-FSCC 2.4.21, FileIdFullDirectoryInformation."""

from __future__ import annotations

import struct
from dataclasses import dataclass
from datetime import datetime

from neatledger.sources.smberrors import Lost

__all__ = ["Entry", "ticks_of", "unpack_entries"]

_ROW = struct.Struct("<IIQQQQQQIIIIQ")
_EPOCH = 116444736000000000  # 1970 in 100 ns since 1601
_DIRECTORY, _REPARSE = 0x10, 0x400


@dataclass(frozen=True, slots=True)
class Entry:
    """One row of a folder: name, whether it is a folder or a link, sizes (bytes), time (s), identity."""

    name: str
    is_folder: bool
    is_link: bool
    size: int
    occupied: int
    changed: int
    identity: int

    @classmethod
    def of_row(cls, name: str, marks: int, size: int, occupied: int, ticks: int, identity: int) -> Entry:
        """Return a row as the server has it: its attributes (MS-FSCC 2.6), and a moment in 100 ns since 1601."""
        is_link = bool(marks & _REPARSE)
        is_folder = bool(marks & _DIRECTORY) and not is_link
        return cls(name, is_folder, is_link, size, occupied, (ticks - _EPOCH) // 10_000_000, identity)


def ticks_of(moment: datetime) -> int:
    """Return a moment in 100 ns since 1601."""
    return int(moment.timestamp() * 10_000_000) + _EPOCH


def unpack_entries(data: bytes) -> list[Entry]:
    """Return the rows, without the folder itself and the one above; raises `Lost` for what is cut off."""
    found, start = [], 0
    while True:
        if start + _ROW.size > len(data):
            raise Lost("a listing that is cut off")
        following, *_, written, _, size, occupied, marks, length, _, _, ident = _ROW.unpack_from(data, start)
        first = start + _ROW.size
        if length % 2 or first + length > len(data) or (following and following < _ROW.size + length):
            raise Lost("a listing that is cut off")
        name = data[first : first + length].decode("utf-16-le", "surrogatepass")
        if name not in (".", ".."):
            found.append(Entry.of_row(name, marks, size, occupied, written, ident))
        if not following:
            return found
        start += following
