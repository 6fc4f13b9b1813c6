"""What Linux tells of an item in one call: what stat tells, and the flags of its inode (statx(2)).

Python's own stat leaves the flags out, and asking for them apart (FS_IOC_GETFLAGS) would open every file. Where the
call is not there, stat is asked and no flags are known.
"""

from __future__ import annotations

import contextlib
import ctypes
import os
import struct
from collections.abc import Callable
from functools import cache

import numpy as np

__all__ = ["ANSWER", "APPEND_ONLY", "IMMUTABLE", "MODE_WORD", "WANTED", "Look", "Statx", "device_of", "statx"]

Look = tuple[int, int, int, int, int, int, int, int, int, int]
"""Flags, links, uid, gid, mode, inode, size (bytes), blocks (512 bytes), change (s), device (see `device_of`)."""

IMMUTABLE, APPEND_ONLY = 0x10, 0x20
"""Flags of an inode: STATX_ATTR_IMMUTABLE, STATX_ATTR_APPEND; others may be there too."""

_HERE, _NO_FOLLOW, _NO_AUTOMOUNT, _BASIC = -100, 0x100, 0x800, 0x7FF
# Made once: numbers that are turned into C's anew for every call cost as much as the call itself.
WANTED = ctypes.c_int(_HERE), ctypes.c_int(_NO_FOLLOW | _NO_AUTOMOUNT), ctypes.c_uint(_BASIC)
"""Where names begin (the current folder), how to look (at links themselves), and what is asked for."""

# Of struct statx (linux/stat.h) what is asked for, padding for the rest: attributes; links, uid, gid, mode; inode,
# size, blocks; the seconds of the last change; and the device, its major number below its minor one.
_STATX = struct.Struct("<8xQIIIHxxQQQ8x48xq16xQ")


ANSWER = np.dtype(
    {
        "names": ["flags", "links", "uid", "gid", "mode", "inode", "size", "blocks", "changed", "device"],
        "formats": ["u8", "u4", "u4", "u4", "u2", "u8", "u8", "u8", "i8", "u8"],
        "offsets": [8, 16, 20, 24, 28, 32, 40, 48, 112, 136],
        "itemsize": 256,
    }
)
"""The same for many answers side by side."""
MODE_WORD = 14
"""Where the mode stands in an answer, counted in words of sixteen bits."""


class Statx:
    """The call with room for its answer.

    `call` is asked with a folder, a name, how to look, what for, and a pointer to room for an answer; it returns 0,
    and then `unpack(room)` is a `Look`. Whoever looks at millions calls it so; the others call `look`.
    """

    def __init__(self) -> None:
        self.room = ctypes.create_string_buffer(ANSWER.itemsize)
        self._pointer = ctypes.c_void_p(ctypes.addressof(self.room))
        self.unpack = _STATX.unpack_from
        self.call: Callable[..., int] = self._by_stat
        # Nothing else of this process waits for the interpreter: it is kept, which saves a tenth of the call.
        with contextlib.suppress(OSError, AttributeError):
            self.call = ctypes.PyDLL(None, use_errno=True).statx

    def _by_stat(self, _here: object, name: bytes, _how: object, _what: object, pointer: ctypes.c_void_p) -> int:
        found = os.stat(name, follow_symlinks=False)
        mode, inode, device, links, uid, gid, size, _, changed, _ = found
        raw = os.major(device) | os.minor(device) << 32
        room = (ctypes.c_char * ANSWER.itemsize).from_address(pointer.value or 0)
        _STATX.pack_into(room, 0, 0, links, uid, gid, mode, inode, size, found.st_blocks, int(changed), raw)
        return 0

    def look(self, name: bytes) -> Look:
        """Look at an item by its name in the current folder, and follow no link; raises `OSError`."""
        here, how, what = WANTED
        if self.call(here, name, how, what, self._pointer):
            raise self.error()
        found: Look = self.unpack(self.room)
        return found

    @staticmethod
    def error() -> OSError:
        """Return the error of a call that failed."""
        number = ctypes.get_errno()
        return OSError(number, os.strerror(number))


@cache
def statx() -> Statx:
    """Return this process's call; whoever shares it among threads needs one of their own."""
    return Statx()


def device_of(raw: int) -> int:
    """Return a device as stat has it; only folders and what has several names want it."""
    return os.makedev(raw & 0xFFFFFFFF, raw >> 32)
