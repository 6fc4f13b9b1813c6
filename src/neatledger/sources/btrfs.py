"""Quota groups of a Btrfs file system: what each subvolume of a tree refers to, and its limits.

Figures come from the kernel's own files below /sys/fs/btrfs/UUID/qgroups (Documentation/ABI/testing/
sysfs-fs-btrfs); subvolumes are known by their root's inode number, 256, and by ioctls of linux/btrfs.h.
A quota group counts its own subvolume alone, not those within.

Beside what a subvolume refers to, what it has for itself (exclusive) may be limited, and so may the groups that it
is in, on several levels. The least that applies decides. Which groups those are the kernel's files do not show: they
are asked for by the tree of quotas (BTRFS_IOC_TREE_SEARCH, only root may). Where that is refused, a subvolume may be
in any of the groups that there are, and only what holds in any case is told.
"""

from __future__ import annotations

import contextlib
import errno
import os
import struct
import uuid
from collections.abc import Iterator
from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path

from neatledger.core.plan.limits import UNLIMITED, Limit, On
from neatledger.core.survey.limits import FoundLimit
from neatledger.core.tree.address import lies_within
from neatledger.core.tree.table import Table, folder_paths
from neatledger.sources.walk import open_below

__all__ = ["own_limit", "read_quota_groups", "set_own_limit", "settle_figures", "snapshots_in"]

# linux/btrfs.h: BTRFS_IOC_SYNC, BTRFS_IOC_FS_INFO, BTRFS_IOC_INO_LOOKUP
_SYNC, _FS_INFO, _INO_LOOKUP = 0x9408, 0x8400941F, 0xD0009412
_FIRST_INODE = 256  # BTRFS_FIRST_FREE_OBJECTID, of every subvolume's root
_TREE_SEARCH = 0xD0009411  # BTRFS_IOC_TREE_SEARCH
_LIMITS_REFERENCED, _LIMITS_EXCLUSIVE = 1, 2  # BTRFS_QGROUP_LIMIT_MAX_RFER, BTRFS_QGROUP_LIMIT_MAX_EXCL
_QUOTA_TREE, _RELATION = 8, 246  # BTRFS_QUOTA_TREE_OBJECTID, BTRFS_QGROUP_RELATION_KEY
# struct btrfs_ioctl_search_key: tree, objects, offsets, transactions, types, how many items
_KEY = struct.Struct("<QQQQQQQIIII32x")
_ITEM = struct.Struct("<QQQII")  # struct btrfs_ioctl_search_header
_LEVEL_AT = 48  # a group's level stands above its number
_HEAD = struct.Struct("<QQ16sII")
_SET_LIMIT = 0x8030942B  # BTRFS_IOC_QGROUP_LIMIT
# struct btrfs_ioctl_qgroup_limit_args: group (0: that of the subvolume), what is set, and four amounts
_LIMIT = struct.Struct("<QQQQQQ")
_GET_SUBVOLUME = 0x81F8943C  # BTRFS_IOC_GET_SUBVOL_INFO
# struct btrfs_ioctl_get_subvol_info_args: of it the flags, its uuid, that of what it was made of, and when that was
_SUBVOLUME = struct.Struct("<288xQ16s16s16x32x16xQ8x32x64x")
_READ_ONLY = 1  # BTRFS_ROOT_SUBVOL_RDONLY
_NO_LIMIT = (1 << 64) - 1  # takes a limit away (kernel, fs/btrfs/qgroup.c: CLEAR_VALUE)


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
    above = _groups_above(root)
    tops = list(_subvolume_rows(folders))
    path_of = folder_paths(folders)
    paths = [path_of(row) for row in tops]
    found = []
    for path in paths:
        number = _number_of(root, path)
        own = None if number is None else _read_group(system, number)
        if number is not None and own is not None:
            inner = [other for other in paths if other != path and lies_within(other, path)]
            found.append(_limit(path, _least(system, number, own, above), own, system, inner))
    return found


def snapshots_in(of: bytes, where: bytes) -> Iterator[tuple[bytes, datetime, bool]]:
    """Yield the snapshots of a subvolume that lie in a folder, or one deeper: path there, when made, read-only.

    Raises `OSError` where it is no subvolume, or something of it may not be seen.
    """
    own = _subvolume_info(of)
    if own is None:
        raise OSError(errno.EINVAL, f"{os.fsdecode(of)} is no subvolume of a Btrfs file system")
    for path in _folders_in(where, 2):
        info = _subvolume_info(where + b"/" + path)
        if info is not None and info.parent_uuid == own.uuid:
            yield path, info.made, info.is_read_only


def _folders_in(folder: bytes, depth: int) -> Iterator[bytes]:
    with os.scandir(folder) as entries:
        names = sorted(one.name for one in entries if one.is_dir(follow_symlinks=False))
    for name in names:
        yield name
        if depth > 1 and os.stat(folder + b"/" + name).st_ino != _FIRST_INODE:
            yield from (name + b"/" + inner for inner in _folders_in(folder + b"/" + name, depth - 1))


@dataclass(frozen=True, slots=True)
class _SubvolumeInfo:
    uuid: bytes
    parent_uuid: bytes
    made: datetime
    is_read_only: bool


def _subvolume_info(path: bytes) -> _SubvolumeInfo | None:
    """Return what the file system says of a subvolume, None where a folder is none."""
    fd = os.open(path, os.O_RDONLY | os.O_DIRECTORY | os.O_NOFOLLOW)
    try:
        if os.fstat(fd).st_ino != _FIRST_INODE:
            return None
        answer = bytearray(_SUBVOLUME.size)
        try:
            _ask(fd, _GET_SUBVOLUME, answer)
        except OSError as error:
            if error.errno in (errno.ENOTTY, errno.EINVAL):
                return None
            raise
    finally:
        os.close(fd)
    flags, own, parent, seconds = _SUBVOLUME.unpack(answer)
    return _SubvolumeInfo(own, parent, datetime.fromtimestamp(seconds, UTC), bool(flags & _READ_ONLY))


def own_limit(fd: int) -> Limit:
    """Return the limit on what an open subvolume refers to, whatever holds it among others.

    Raises `OSError` where it is no subvolume, or where its file system keeps no quota groups.
    """
    system, number = _file_system(fd), _subvolume(fd)
    if number is None or os.fstat(fd).st_ino != _FIRST_INODE:
        raise OSError(errno.EINVAL, "only a subvolume has a limit of its own")
    group = None if system is None else _read_group(system, number)
    if group is None:
        raise OSError(errno.EOPNOTSUPP, "the file system keeps no quota groups")
    return group.limit


def set_own_limit(fd: int, limit: Limit, through: int) -> None:
    """Set the limit on what an open subvolume refers to, or take it away; raises `OSError`.

    The kernel sets it as a write of the folder that it is asked `through`: a subvolume that is full refuses to have
    its own limit raised. On another file system the same number would be another subvolume: there it is asked itself.
    """
    number = _subvolume(fd) or 0
    amount = limit if isinstance(limit, int) else _NO_LIMIT
    asked = _LIMIT.pack(number, _LIMITS_REFERENCED, amount, 0, 0, 0)
    if _file_system(through) == _file_system(fd):
        # It may be full itself.
        with contextlib.suppress(OSError):
            _ask(through, _SET_LIMIT, bytearray(asked))
            return
    _ask(fd, _SET_LIMIT, bytearray(asked))


def _groups_above(fd: int) -> dict[int, list[int]] | None:
    """Return group → the groups that it is in, None where the file system does not tell."""
    found: dict[int, list[int]] = {}
    first = 0
    for _ in range(10_000):
        top = (1 << 64) - 1
        asked = bytearray(4096)
        _KEY.pack_into(asked, 0, _QUOTA_TREE, first, top, 0, top, 0, top, _RELATION, _RELATION, 4096, 0)
        try:
            _ask(fd, _TREE_SEARCH, asked)
        except OSError:
            return None
        count = struct.unpack_from("<I", asked, 64)[0]
        at, last = 104, first
        for _ in range(count):
            _, inner, outer, kind, size = _ITEM.unpack_from(asked, at)
            at += _ITEM.size + size
            last = inner
            # Every relation stands there twice, once from each end; the one above has the higher level.
            if kind == _RELATION and outer >> _LEVEL_AT > inner >> _LEVEL_AT:
                found.setdefault(inner, []).append(outer)
        if count == 0 or last == top:
            return found
        first = last + 1
    return None


@dataclass(frozen=True, slots=True)
class _Group:
    """A quota group: its number as people write it, what it refers to and has for itself, and the limits on both."""

    name: str
    used: int
    limit: Limit
    own_used: int
    own_limit: Limit

    @property
    def left(self) -> tuple[int, int, int, str] | None:
        """What may still be written: bytes left, the limit, what counts against it, and by what; None without one."""
        found = []
        if isinstance(self.limit, int):
            found.append((self.limit - self.used, self.limit, self.used, f"quota group {self.name}"))
        if isinstance(self.own_limit, int):
            what = f"quota group {self.name}, exclusive"
            found.append((self.own_limit - self.own_used, self.own_limit, self.own_used, what))
        return min(found, default=None)


def _least(
    system: _FileSystem, number: int, own: _Group, above: dict[int, list[int]] | None
) -> tuple[Limit | None, int, str]:
    """Return the limit that applies with what counts against it, and by what; None where that is not known."""
    groups, waiting, seen = [own], [number], {number}
    while waiting and above is not None:
        for outer in above.get(waiting.pop(), ()):
            if outer not in seen:
                seen.add(outer)
                waiting.append(outer)
                group = _read_group(system, outer)
                if group is None:
                    return None, own.used, own.name
                groups.append(group)
    least = min((group.left for group in groups if group.left is not None), default=None)
    # It may be in any group of a higher level: what leaves no more than all of these decides in any case.
    if above is None and any(_may_stop_first(group, least) for group in _outer_groups(system)):
        return None, own.used, f"quota group {own.name}"
    if least is not None:
        return least[1], least[2], least[3]
    return UNLIMITED, own.used, f"quota group {own.name}"


def _may_stop_first(group: _Group | None, least: tuple[int, int, int, str] | None) -> bool:
    if group is None:
        return True
    return group.left is not None and (least is None or group.left[0] < least[0])


def _outer_groups(system: _FileSystem) -> Iterator[_Group | None]:
    """Yield the groups that others may be in, those of a level above the lowest; None for one that is not shown."""
    for entry in sorted(os.listdir(system.groups)):
        level, _, ident = entry.partition("_")
        if level.isdecimal() and ident.isdecimal() and int(level):
            yield _read_group(system, int(level) << _LEVEL_AT | int(ident))


def _subvolume_rows(folders: Table) -> Iterator[int]:
    yield 0
    device, parent = folders["device"], folders["parent"]
    for row in (folders["inode"] == _FIRST_INODE).nonzero()[0].tolist():
        if row and device[row] != device[parent[row]]:
            yield row


def _number_of(root: int, path: bytes) -> int | None:
    """Return a subvolume's number."""
    try:
        here = open_below(root, tuple(part for part in path.split(b"/") if part))
    except OSError:
        return None
    try:
        return _subvolume(here)
    finally:
        os.close(here)


def _read_group(system: _FileSystem, number: int) -> _Group | None:
    """Return one group by its number, the level above it; None where the kernel does not show it."""
    level, ident = number >> _LEVEL_AT, number & ((1 << _LEVEL_AT) - 1)
    group = system.groups / f"{level}_{ident}"
    names = ("referenced", "max_referenced", "exclusive", "max_exclusive", "limit_flags")
    try:
        used, most, own_used, own_most, flags = (int((group / name).read_text()) for name in names)
    except (OSError, ValueError):
        return None
    return _Group(
        f"{level}/{ident}",
        used,
        most if flags & _LIMITS_REFERENCED else UNLIMITED,
        own_used,
        own_most if flags & _LIMITS_EXCLUSIVE else UNLIMITED,
    )


def _limit(
    path: bytes, least: tuple[Limit | None, int, str], own: _Group, system: _FileSystem, inner: list[bytes]
) -> FoundLimit:
    limit, used, by = least
    return FoundLimit(
        On.FOLDER,
        os.fsdecode(path),
        UNLIMITED if limit is None else limit,
        used=used,
        # Any write needs one more node of the subvolume's tree to be free for it.
        kept_back=system.node_bytes,
        block=system.block_bytes,
        leaves_out=tuple(map(os.fsdecode, inner)),
        by=by,
        is_own=limit is not None and by == f"quota group {own.name}",
        is_told=limit is not None,
    )
