"""Quota groups of a Btrfs file system: what each subvolume of a tree refers to, and its limits.

Figures come from the kernel's own files below /sys/fs/btrfs/UUID/qgroups (Documentation/ABI/testing/
sysfs-fs-btrfs); subvolumes are known by their root's inode number, 256, and by ioctls of linux/btrfs.h.
A quota group counts its own subvolume alone, not those within.
"""

from __future__ import annotations

import contextlib
import os
import struct
import uuid
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

from neatledger.core.plan.limits import UNLIMITED, Limit, On
from neatledger.core.survey.limits import FoundLimit
from neatledger.core.tree.table import Table, folder_paths
from neatledger.sources.walk import open_below

__all__ = ["read_quota_groups", "settle_figures"]

# linux/btrfs.h: BTRFS_IOC_SYNC, BTRFS_IOC_FS_INFO, BTRFS_IOC_INO_LOOKUP
_SYNC, _FS_INFO, _INO_LOOKUP = 0x9408, 0x8400941F, 0xD0009412
_FIRST_INODE = 256  # BTRFS_FIRST_FREE_OBJECTID, of every subvolume's root
_LIMITS_REFERENCED = 1  # BTRFS_QGROUP_LIMIT_MAX_RFER
_HEAD = struct.Struct("<QQ16sII")


@dataclass(frozen=True, slots=True)
class _FileSystem:
    """One file system: where the kernel shows its quota groups, and its units of allocation (bytes)."""

    groups: Path
    node_bytes: int
    block_bytes: int


def _ask(fd: int, request: int, buffer: bytearray | None = None) -> None:
    """Put one request to the file system; raises `OSError` where it is another, or where no system takes any."""
    try:
        # Not there on every system that reads the others over the network.
        import fcntl
    except ModuleNotFoundError:
        raise OSError("this system takes no requests of file systems") from None
    if buffer is None:
        fcntl.ioctl(fd, request)
    else:
        fcntl.ioctl(fd, request, buffer)


def settle_figures(fd: int) -> None:
    """Have the file system write what waits, so that its figures are those of now; nothing where it is another."""
    with contextlib.suppress(OSError):
        _ask(fd, _SYNC)


def _file_system(fd: int) -> _FileSystem | None:
    answer = bytearray(1024)
    try:
        _ask(fd, _FS_INFO, answer)
    except OSError:
        return None
    _, _, ident, node, block = _HEAD.unpack_from(answer)
    groups = Path(f"/sys/fs/btrfs/{uuid.UUID(bytes=ident)}/qgroups")
    return _FileSystem(groups, node, block) if groups.is_dir() else None


def _subvolume(fd: int) -> int | None:
    """Return the number of the subvolume that an open folder lies in."""
    question = bytearray(struct.pack("<QQ", 0, _FIRST_INODE) + bytes(4080))
    try:
        _ask(fd, _INO_LOOKUP, question)
    except OSError:
        return None
    return int(struct.unpack_from("<Q", question)[0])


def read_quota_groups(root: int, folders: Table) -> list[FoundLimit] | None:
    """Return the limits of a tree's subvolumes, None where the file system keeps no quota groups.

    Arguments: the open root of the tree, and the table of its folders.
    """
    system = _file_system(root)
    if system is None:
        return None
    tops = list(_subvolume_rows(folders))
    path_of = folder_paths(folders)
    paths = [path_of(row) for row in tops]
    found = []
    for path in paths:
        group = _read_group(root, path, system)
        if group is not None:
            inner = [other for other in paths if other != path and other.startswith(path.rstrip(b"/") + b"/")]
            found.append(_limit(path, group, system, inner))
    return found


def _subvolume_rows(folders: Table) -> Iterator[int]:
    yield 0
    device, parent = folders["device"], folders["parent"]
    for row in (folders["inode"] == _FIRST_INODE).nonzero()[0].tolist():
        if row and device[row] != device[parent[row]]:
            yield row


def _read_group(root: int, path: bytes, system: _FileSystem) -> tuple[int, int, Limit] | None:
    """Return a subvolume's number, what it refers to, and its limit."""
    try:
        here = open_below(root, tuple(part for part in path.split(b"/") if part))
    except OSError:
        return None
    try:
        number = _subvolume(here)
    finally:
        os.close(here)
    group = system.groups / f"0_{number}"
    try:
        used, most, flags = (
            int((group / name).read_text()) for name in ("referenced", "max_referenced", "limit_flags")
        )
    except (OSError, ValueError):
        return None
    return number or 0, used, most if flags & _LIMITS_REFERENCED else UNLIMITED


def _limit(path: bytes, group: tuple[int, int, Limit], system: _FileSystem, inner: list[bytes]) -> FoundLimit:
    number, used, limit = group
    return FoundLimit(
        On.FOLDER,
        os.fsdecode(path),
        limit,
        used=used,
        # Any write needs one more node of the subvolume's tree to be free for it.
        kept_back=system.node_bytes,
        block=system.block_bytes,
        leaves_out=tuple(map(os.fsdecode, inner)),
        by=f"quota group 0/{number}",
    )
