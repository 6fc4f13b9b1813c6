"""Items of a tree with POSIX lists, by open descriptors: what decides about one, and setting that.

Every name on the way down is opened by itself, and no symbolic link is followed: whoever puts one into the place of a
folder meanwhile has an error for it, and nothing is changed where the link leads to.
"""

from __future__ import annotations

import errno
import fcntl
import os
import stat
import struct
from collections.abc import Iterator, Sequence
from contextlib import contextmanager

from neatledger.core.lists import posix
from neatledger.core.lists.posix import pack_body, pack_entries, unpack_entries
from neatledger.core.steps.contract import ItemState
from neatledger.errors import StepError
from neatledger.formats.posixacl import entries_from_attribute, entries_to_attribute

__all__ = ["is_between", "item_of", "open_folder", "set_item", "why"]

_ACCESS, _DEFAULT = "system.posix_acl_access", "system.posix_acl_default"
_HEAD = struct.Struct("<HI")
# ioctl_iflags(2): FS_IOC_GETFLAGS, and the flags that it tells.
_GET_FLAGS, _IMMUTABLE, _APPEND_ONLY = 0x80086601, 0x10, 0x20
_NO_LISTS = (errno.ENODATA, errno.EOPNOTSUPP)
_FOLDER = os.O_RDONLY | os.O_DIRECTORY | os.O_NOFOLLOW | os.O_CLOEXEC | os.O_NONBLOCK


def why(error: OSError) -> str:
    """Return in words what the system refused."""
    if error.errno in (errno.ELOOP, errno.ENOTDIR):
        return "there is a link or a file in place of the folder"
    return error.strerror or os.strerror(error.errno or 0)


@contextmanager
def open_folder(root: int, parts: Sequence[bytes]) -> Iterator[int]:
    """Open a folder below an open one, name by name; raises `OSError`."""
    here = os.dup(root)
    try:
        for name in parts:
            below = os.open(name, _FOLDER, dir_fd=here)
            os.close(here)
            here = below
        yield here
    finally:
        os.close(here)


def _attribute(fd: int, name: str) -> bytes | None:
    try:
        return os.getxattr(fd, name)
    except OSError as error:
        if error.errno in _NO_LISTS:
            return None
        raise


def _flags(fd: int) -> int:
    try:
        (flags,) = struct.unpack("=l", fcntl.ioctl(fd, _GET_FLAGS, b"\0" * struct.calcsize("=l")))
    except OSError:
        # A file system that has none.
        return 0
    kept = posix.IMMUTABLE if flags & _IMMUTABLE else 0
    return kept | (posix.APPEND_ONLY if flags & _APPEND_ONLY else 0)


def item_of(fd: int) -> ItemState:
    """Return what decides about an open item now; raises `OSError`, `FormatError`."""
    seen = os.fstat(fd)
    access = _attribute(fd, _ACCESS)
    entries = b"" if access is None else entries_from_attribute(access)
    body = pack_body(stat.S_IMODE(seen.st_mode), seen.st_gid, entries, _flags(fd))
    default = _attribute(fd, _DEFAULT) if stat.S_ISDIR(seen.st_mode) else None
    kept = None if default is None else pack_body(0, 0, entries_from_attribute(default))
    return ItemState(str(seen.st_uid), body, kept)


def set_item(fd: int, before: ItemState, after: ItemState) -> None:
    """Make an open item as `after`; what it has already is left alone. Raises `OSError`, `StepError`.

    A list is set whole, in one call of the kernel, and what is made in a folder meanwhile gets the old default list
    or the new one: there is no moment with neither. Where the owner or the group changes, whom the owner's entries
    speak of changes too: the list is narrowed to what both have before that.
    """
    mode, gid = _HEAD.unpack_from(after.body)
    _, old_gid = _HEAD.unpack_from(before.body)
    if (mode ^ _HEAD.unpack_from(before.body)[0]) & (posix.IMMUTABLE | posix.APPEND_ONLY):
        raise StepError("flags that keep an item as it is are set and taken away by a person: chattr")
    if after.default != before.default:
        if after.default is None:
            os.removexattr(fd, _DEFAULT)
        else:
            os.setxattr(fd, _DEFAULT, entries_to_attribute(unpack_entries(after.default)))
    is_moved = (after.owner, gid) != (before.owner, old_gid)
    if is_moved:
        _set_list(fd, _narrowed(before.body, after.body))
        os.fchown(fd, int(after.owner) if after.owner != before.owner else -1, gid if gid != old_gid else -1)
    if is_moved or after.body != before.body:
        _set_list(fd, after.body)
        # Sticky and setgid are no part of a list; chown takes setgid away from files.
        if stat.S_IMODE(os.fstat(fd).st_mode) != mode & 0o7777:
            os.fchmod(fd, mode & 0o7777)


def _set_list(fd: int, body: bytes) -> None:
    """Set the entries, those that the mode stands for among them; the kernel keeps three as the mode alone."""
    entries = unpack_entries(body)
    try:
        os.setxattr(fd, _ACCESS, entries_to_attribute(entries))
    except OSError as error:
        if error.errno != errno.EOPNOTSUPP or len(entries) > 3:
            raise
        # A file system without lists.
        os.fchmod(fd, _HEAD.unpack_from(body)[0] & 0o7777)


def _narrowed(before: bytes, after: bytes) -> bytes:
    """Return a list that gives by each entry what both lists give by it, and so the owner and the group least."""
    old, new = ({(one.tag, one.ident): one.perm for one in unpack_entries(body)} for body in (before, after))
    both = [posix.Entry(key[0], old[key] & new[key], key[1]) for key in old if key in new]
    if any(one.tag in (posix.USER, posix.GROUP) for one in both) and posix.MASK not in {one.tag for one in both}:
        none = (posix.MASK, 0xFFFFFFFF)
        both.append(posix.Entry(posix.MASK, old.get(none, new.get(none, 7))))
    return pack_body(0, 0, pack_entries(both))


def is_between(found: ItemState, before: ItemState, after: ItemState) -> bool:
    """Tell whether an item is as `set_item` may leave it when it is stopped in the middle."""
    old_gid, gid = (_HEAD.unpack_from(one.body)[1] for one in (before, after))
    narrowed = unpack_entries(_narrowed(before.body, after.body))
    olds, news = unpack_entries(before.body), unpack_entries(after.body)
    here = found.owner, _HEAD.unpack_from(found.body)[1], _shown(unpack_entries(found.body))
    owners = [(before.owner, old_gid), (after.owner, gid)]
    ways = [(*owners[0], olds), *((*owner, narrowed) for owner in owners), (*owners[1], news)]
    is_way = here in [(owner, group, _shown(entries)) for owner, group, entries in ways]
    return is_way and found.default in (before.default, after.default)


def _shown(entries: list[posix.Entry]) -> list[posix.Entry]:
    return sorted(entries, key=lambda one: (one.tag, one.ident))
