"""What Linux tells of an item in one call: what stat tells, and the flags of its inode (statx(2)).

Python's own stat leaves the flags out, and asking for them apart (FS_IOC_GETFLAGS) would open every file. Where the
call is not there, stat is asked and no flags are known.
"""

from __future__ import annotations

import ctypes
import os
import struct
from collections.abc import Callable

__all__ = ["APPEND_ONLY", "IMMUTABLE", "Look", "device_of", "make_look"]

Look = tuple[int, int, int, int, int, int, int, int, int, int]
"""Mode, inode, device (see `device_of`), links, uid, gid, size (bytes), blocks (512 bytes), change (s), flags."""

IMMUTABLE, APPEND_ONLY = 0x10, 0x20
"""Flags of an inode: STATX_ATTR_IMMUTABLE, STATX_ATTR_APPEND; others may be there too."""

_HERE, _NO_FOLLOW, _NO_AUTOMOUNT, _BASIC = -100, 0x100, 0x800, 0x7FF
# Of struct statx (linux/stat.h) what is asked for, padding for the rest: attributes; links, uid, gid, mode; inode,
# size, blocks; the seconds of the last change; and the device, its major number below its minor one.
_STATX = struct.Struct("<8xQIIIHxxQQQ8x48xq16xQ")


def make_look() -> Callable[[str], Look]:
    """Return what looks at an item by its name in the current folder, and follows no link; raises `OSError`."""
    try:
        statx = ctypes.CDLL(None, use_errno=True).statx
    except (OSError, AttributeError):
        return _by_stat
    statx.argtypes = [ctypes.c_int, ctypes.c_char_p, ctypes.c_int, ctypes.c_uint, ctypes.c_void_p]
    room = ctypes.create_string_buffer(256)
    address, unpack, encode = ctypes.addressof(room), _STATX.unpack_from, os.fsencode

    def look(name: str) -> Look:
        if statx(_HERE, encode(name), _NO_FOLLOW | _NO_AUTOMOUNT, _BASIC, address):
            number = ctypes.get_errno()
            raise OSError(number, os.strerror(number))
        flags, links, uid, gid, mode, inode, size, blocks, changed, device = unpack(room)
        return mode, inode, device, links, uid, gid, size, blocks, changed, flags

    return look


def _by_stat(name: str) -> Look:
    found = os.stat(name, follow_symlinks=False)
    mode, inode, device, links, uid, gid, size, _, changed, _ = found
    raw = os.major(device) | os.minor(device) << 32
    return mode, inode, raw, links, uid, gid, size, found.st_blocks, int(changed), 0


def device_of(raw: int) -> int:
    """Return a device as stat has it; only folders and what has several names want it."""
    return os.makedev(raw & 0xFFFFFFFF, raw >> 32)
