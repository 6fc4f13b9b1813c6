"""Read one directory tree fast: every folder and file once, relative to open descriptors.

Each entry costs one stat and one listxattr call; attributes are fetched only where there are any. Paths
are never rebuilt on the way: the process changes into the folder it reads and uses bare names.
"""

from __future__ import annotations

import errno
import os
from collections.abc import Callable
from dataclasses import dataclass, field

from neatledger.core.lists import posix
from neatledger.core.lists.posix import pack_body
from neatledger.core.tree.columns import LARGE_BYTES, SeenState, is_kind
from neatledger.errors import FormatError
from neatledger.formats.posixacl import entries_from_attribute
from neatledger.sources.statx import APPEND_ONLY, IMMUTABLE, WANTED, Look, device_of, statx
from neatledger.sources.sums import Sums, sum_up

__all__ = [
    "FOLDER_ROW",
    "Bounds",
    "Folder",
    "Part",
    "Walker",
    "colliding_names",
    "open_below",
    "why_not",
]

_ACCESS, _DEFAULT = "system.posix_acl_access", "system.posix_acl_default"
_TYPE, _FILE, _FOLDER, _LINK = 0o170000, 0o100000, 0o040000, 0o120000
_OPEN = os.O_RDONLY | os.O_DIRECTORY | os.O_NOFOLLOW | os.O_CLOEXEC | os.O_NONBLOCK
_DEEPEST_OPEN = 200  # descriptors held at once on the way down; deeper folders are reopened from the root
_SUM_UP_AFTER = 32768
_FOLDER_WIDTH = 13

_FLAGS_AT = 16
_LOCKING = IMMUTABLE | APPEND_ONLY
Folder = tuple[bytes, Look, int, int, str]
"""A folder as its parent's reading saw it: name, what the system told, list, default list, what was not seen."""


@dataclass(slots=True)
class Part:
    """One subtree in the order of reading: a folder before what is in it, names sorted.

    Numbers of folders, lists and kinds are the part's own. A folder's parent is −1 for the part's root,
    whose parent is row `parent_row` of the first part. In `not_seen` a folder of −1 goes with a whole
    path. Rows are packed one after another: `folders` has thirteen numbers each (see `FOLDER_ROW`), `hard`
    eight (as HARD_COLUMNS), `others` six (as OTHER_COLUMNS), `large` seven (as LARGE_COLUMNS but for the
    name, which is in `large_names`); files are added up by `sum_up` in `sums`.
    """

    names: list[bytes] = field(default_factory=list)
    folders: list[int] = field(default_factory=list)
    sums: list[Sums] = field(default_factory=list)
    hard: list[int] = field(default_factory=list)
    others: list[int] = field(default_factory=list)
    large: list[int] = field(default_factory=list)
    large_names: list[str] = field(default_factory=list)
    lists: dict[bytes, int] = field(default_factory=dict)
    kinds: dict[str, int] = field(default_factory=dict)
    not_seen: list[tuple[int, bytes, str]] = field(default_factory=list)
    collisions: list[tuple[int, bytes]] = field(default_factory=list)  # folder, a name like another but for case
    parent_row: int = -1
    entries: int = 0


FOLDER_ROW = (
    "parent", "depth", "list", "default", "owner", "state", "bytes", "occupied", "changed", "inode", "device",
)  # fmt: skip
"""What a folder's row holds, in order; then its counts of links and of special files."""


def why_not(error: OSError | FormatError) -> str:
    """Say in plain words why the system did not show something."""
    if isinstance(error, FormatError):
        return str(error)
    words = {
        errno.EACCES: "permission denied",
        errno.EPERM: "permission denied",
        errno.ENOENT: "vanished while reading",
        errno.ENOTDIR: "replaced while reading",
        errno.ELOOP: "replaced by a symbolic link while reading",
        errno.EIO: "input/output error",
    }
    return words.get(error.errno or 0, os.strerror(error.errno or 0).lower())


def open_below(root: int, path: tuple[bytes, ...]) -> int:
    """Open a folder by its names below the open folder `root`, a step at a time, following no link."""
    here = os.dup(root)
    for name in path:
        try:
            deeper = os.open(name, _OPEN, dir_fd=here)
        finally:
            os.close(here)
        here = deeper
    return here


@dataclass(frozen=True, slots=True)
class Bounds:
    """What a reading stays within: a device (None: any), and the paths at which another one is mounted.

    Where mounts are not told (None), any other device is another file system. A file system may show several
    devices of its own, as subvolumes do: what is not mounted there belongs to it.
    """

    device: int | None = None
    mounts: frozenset[tuple[bytes, ...]] | None = None

    def ends_at(self, device: int, path: tuple[bytes, ...]) -> bool:
        """Tell whether a folder on a device is beyond."""
        if self.device is None or device == self.device:
            return False
        return self.mounts is None or path in self.mounts


class Walker:
    """Reads a tree below an open root folder into a `Part`.

    Arguments: `root`, an open descriptor; `bounds`, what to stay within; `progress`, called now and then
    with the number of entries read since the last call.
    """

    def __init__(self, root: int, bounds: Bounds, progress: Callable[[int], None]) -> None:
        self.root = root
        self.bounds = bounds
        self.progress = progress
        self.part = Part()
        self.stat = statx()
        self._plain: dict[int, int] = {}
        self._files: list[int] = []
        self._names: list[str] = []
        self._told = 0

    def look(self, name: bytes, seen: Look | None = None) -> Folder:
        """Read the lists of a folder that lies in the current folder (or, without a name, is it)."""
        seen = seen or self.stat.look(name or b".")
        mode, gid = _with_flags(seen), seen[3]
        default, why = -1, ""
        at = name or b"."
        try:
            has = os.listxattr(at, follow_symlinks=False)
            number = self._number(mode, gid, at, has)
            if _DEFAULT in has:
                entries = entries_from_attribute(os.getxattr(at, _DEFAULT, follow_symlinks=False))
                body = pack_body(0, 0, entries)  # whatever the folder's own mode
                default = self.part.lists.setdefault(body, len(self.part.lists))
        except (OSError, FormatError) as error:
            number, why = self._number(mode, gid, at, []), f"its access list: {why_not(error)}"
        return name, seen, number, default, why

    def add_folder(self, folder: Folder, parent: int, depth: int) -> int:
        """Add the row of a folder and return its number."""
        part = self.part
        name, seen, number, default, why = folder
        row = len(part.names)
        state = SeenState.WHOLE
        if why:
            state = SeenState.LIST_UNKNOWN
            part.not_seen.append((row, b"", why))
        part.names.append(name)
        _, _, uid, _, _, inode, size, blocks, changed, device = seen
        figures = (size, blocks * 512, changed, inode, device_of(device), 0, 0)
        part.folders.extend((parent, depth, number, default, uid, state, *figures))
        return row

    def _number(self, mode: int, gid: int, name: str | bytes, has: list[str]) -> int:
        """Return the number of the list of `name`, in the current folder, whose attributes are `has`."""
        entries = b""
        if _ACCESS in has:
            entries = entries_from_attribute(os.getxattr(name, _ACCESS, follow_symlinks=False))
        lists = self.part.lists
        return lists.setdefault(pack_body(mode & 0xFFFF, gid, entries, mode >> _FLAGS_AT), len(lists))

    def read_folder(self, row: int, fd: int) -> list[Folder]:
        """Read the open folder `fd`, row number `row`; return its subfolders sorted by name.

        The process changes into the folder, so that bare names do. This loop runs once for every file of
        the tree: it does the least that it can and leaves the adding up to `sum_up`.
        """
        part = self.part
        folders: list[Folder] = []
        kinds, plain, listxattr = part.kinds, self._plain, os.listxattr
        add_row, add_name = self._files.extend, self._names.append
        links = specials = seen = 0
        before = len(self._names)
        try:
            os.fchdir(fd)
        except OSError as error:
            # Who may list a folder and not enter it learns names there, and nothing of what they stand for.
            self._miss_inside(row, error)
            return folders
        here, how, what = WANTED
        call, address, room, unpack = self.stat.call, self.stat.address, self.stat.room, self.stat.unpack
        encode = os.fsencode
        for name in os.listdir(fd):
            seen += 1
            try:
                raw = encode(name)
                if call(here, raw, how, what, address):
                    raise self.stat.error()
                flags, nlink, uid, gid, mode, inode, size, blocks, changed, device = stat = unpack(room)
                if flags & _LOCKING:
                    mode = _with_flags(stat)
                form = mode & _TYPE
                if form != _FILE:
                    if form == _FOLDER:
                        folders.append(self.look(raw, stat))
                        continue
                    if form == _LINK:
                        links += 1
                    else:
                        specials += 1
                    number = self._number(mode, gid, raw, [])
                    occupied = blocks * 512
                    part.others.extend((row, number, uid, 1, size, occupied))
                    if nlink > 1:
                        part.hard.extend((row, number, uid, -1, inode, size, occupied, device_of(device)))
                    continue
                has = listxattr(raw, follow_symlinks=False)
                if has:
                    number = self._number(mode, gid, raw, has)
                else:
                    key = mode << 32 | gid
                    number = plain.get(key, -1)
                    if number < 0:
                        number = plain[key] = self._number(mode, gid, raw, has)
            except (OSError, FormatError) as error:
                part.not_seen.append((row, encode(name), why_not(error)))
                continue
            # The same as `kind_of`, which takes bytes and small letters.
            dot = name.rfind(".") + 1
            kind = kinds.get(name[dot:], -1) if dot > 1 else kinds.setdefault("", len(kinds))
            if kind < 0:
                word = name[dot:] if is_kind(name[dot:]) else ""
                kind = kinds.setdefault(word, len(kinds))
            add_row((row, number, uid, kind, size, blocks, changed))
            add_name(name)
            if nlink > 1:
                part.hard.extend((row, number, uid, kind, inode, size, blocks * 512, device_of(device)))
            if size >= LARGE_BYTES:
                part.large.extend((row, number, uid, kind, size, blocks * 512, changed))
                part.large_names.append(name)
        part.folders[row * _FOLDER_WIDTH + 11] = links
        part.folders[row * _FOLDER_WIDTH + 12] = specials
        part.entries += seen
        names = self._names[before:]
        if folders:
            names += [os.fsdecode(folder[0]) for folder in folders]
        if len(set(map(str.casefold, names))) != len(names):
            part.collisions += ((row, name) for name in colliding_names(names))
        if len(self._names) > _SUM_UP_AFTER:
            self.tell()
        folders.sort(key=_by_name)
        return folders

    def tell(self) -> None:
        """Add up the files read since the last time, and report the progress."""
        if self._names:
            self.part.sums.append(sum_up(self._files, self._names))
            self._files.clear()
            self._names.clear()
        self.progress(self.part.entries - self._told)
        self._told = self.part.entries

    def walk(self, row: int, path: tuple[bytes, ...], fd: int, depth: int) -> None:
        """Read everything below the open folder `fd`; closes it. `path` leads to it from the root."""
        waiting: list[tuple[int, list[Folder], int, int, tuple[bytes, ...]]] = []
        here: tuple[int, int, int, tuple[bytes, ...]] | None = (row, fd, depth, path)
        while here or waiting:
            if here:
                row, fd, depth, path = here
                folders = self.read_folder(row, fd)
                folders.reverse()
                if folders:
                    held = fd
                    if len(waiting) >= _DEEPEST_OPEN:
                        os.close(fd)
                        held = -1
                    waiting.append((row, folders, held, depth, path))
                else:
                    os.close(fd)
                here = None
                continue
            row, folders, held, depth, path = waiting[-1]
            if not folders:
                waiting.pop()
                if held >= 0:
                    os.close(held)
                continue
            here = self._step_down(row, folders.pop(), held, depth, path)

    def _step_down(
        self, parent: int, folder: Folder, held: int, depth: int, path: tuple[bytes, ...]
    ) -> tuple[int, int, int, tuple[bytes, ...]] | None:
        row = self.add_folder(folder, parent, depth + 1)
        deeper = self.open_folder(row, folder, held, path)
        return None if deeper is None else (row, deeper, depth + 1, (*path, folder[0]))

    def open_folder(self, row: int, folder: Folder, above: int, path: tuple[bytes, ...]) -> int | None:
        """Open a counted folder to read what is in it, or note why it was not seen.

        `above` is the open folder it lies in, whose path from the root is `path`; below zero, that is reopened.
        """
        if self.bounds.ends_at(device_of(folder[1][9]), (*path, folder[0])):
            self._set_state(row, SeenState.OTHER_FILE_SYSTEM)
            self.part.not_seen.append((row, b"", "another file system begins here"))
            return None
        try:
            if above >= 0:
                return os.open(folder[0], _OPEN, dir_fd=above)
            return open_below(self.root, (*path, folder[0]))
        except OSError as error:
            self._miss_inside(row, error)
            return None

    def _miss_inside(self, row: int, error: OSError) -> None:
        """Note that nothing in a folder could be seen."""
        self._set_state(row, SeenState.NOT_OPENED)
        self.part.not_seen.append((row, b"", f"what is in it: {why_not(error)}"))

    def _set_state(self, row: int, state: SeenState) -> None:
        self.part.folders[row * _FOLDER_WIDTH + FOLDER_ROW.index("state")] = int(state)


def _with_flags(seen: Look) -> int:
    """Return the mode of an item, and above its sixteen bits the flags of the inode as stored lists have them."""
    mode, flags = seen[4], seen[0]
    kept = posix.IMMUTABLE if flags & IMMUTABLE else 0
    return mode | (kept | (posix.APPEND_ONLY if flags & APPEND_ONLY else 0)) << _FLAGS_AT


def colliding_names(names: list[str]) -> list[bytes]:
    """Return the names that differ from another one only in letter case, those alike side by side."""
    alike: dict[str, list[str]] = {}
    for name in names:
        alike.setdefault(name.casefold(), []).append(name)
    return [os.fsencode(name) for folded in sorted(alike) for name in sorted(alike[folded]) if len(alike[folded]) > 1]


def _by_name(folder: Folder) -> bytes:
    return folder[0]
