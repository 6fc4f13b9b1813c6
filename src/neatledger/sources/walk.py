"""Read one directory tree fast: every folder and file once, relative to open descriptors.

Each entry costs one stat and one listxattr call; attributes are fetched only where there are any. Paths
are never rebuilt on the way: the process changes into the folder it reads and uses bare names.
"""

from __future__ import annotations

import errno
import os
from collections.abc import Callable
from dataclasses import dataclass, field
from itertools import compress
from operator import methodcaller

import numpy as np
from numpy.typing import NDArray

from neatledger.core.lists.posix import pack_body
from neatledger.core.tree.columns import LARGE_BYTES, SeenState, is_kind
from neatledger.errors import FormatError
from neatledger.formats.posixacl import entries_from_attribute
from neatledger.sources.batch import ANSWER_BYTES, FLAGS_AT, Answers, batch, with_flags
from neatledger.sources.statx import MODE_WORD, WANTED, Look, device_of, statx
from neatledger.sources.sums import Ints, Sums, sum_up

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
_SUM_UP_AFTER = 12288
_WORDS = ANSWER_BYTES // 2
_FOLDER_WIDTH = 13

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
    large_names: list[bytes] = field(default_factory=list)
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
        self._numbers: dict[tuple[int, int, bytes], int] = {}
        self._defaults: dict[bytes, int] = {}
        self._kinds = _Kinds(self.part.kinds)
        self._batch = batch()
        self._lists: list[tuple[int, bytes]] = []
        self._understood: set[bytes] = set()
        self._told = 0

    def look(self, name: bytes, seen: Look | None = None) -> Folder:
        """Read the lists of a folder that lies in the current folder (or, without a name, is it)."""
        seen = seen or self.stat.look(name or b".")
        mode, gid = with_flags(seen[4], seen[0]), seen[3]
        default, why = -1, ""
        at = name or b"."
        try:
            has = os.listxattr(at, follow_symlinks=False)
            number = self._number(mode, gid, at, has)
            if has and _DEFAULT in has:
                default = self._default_of(at)
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

    def _number(self, mode: int, gid: int, name: bytes, has: list[str]) -> int:
        """Return the number of the list of `name`, in the current folder, whose attributes are `has`."""
        attribute = b""
        if has and _ACCESS in has:
            attribute = os.getxattr(name, _ACCESS, follow_symlinks=False)
        return self._number_of(mode, gid, attribute)

    def _number_of(self, mode: int, gid: int, attribute: bytes) -> int:
        """Return the number of a list, by its attribute (empty: none); raises `FormatError`."""
        key = mode, gid, attribute
        if key not in self._numbers:
            entries = entries_from_attribute(attribute) if attribute else b""
            body = pack_body(mode & 0xFFFF, gid, entries, mode >> FLAGS_AT)
            self._numbers[key] = self.part.lists.setdefault(body, len(self.part.lists))
        return self._numbers[key]

    def _default_of(self, name: bytes) -> int:
        """Return the number of a folder's default list, which is one whatever the folder's own mode."""
        attribute = os.getxattr(name, _DEFAULT, follow_symlinks=False)
        if attribute not in self._defaults:
            body = pack_body(0, 0, entries_from_attribute(attribute))
            self._defaults[attribute] = self.part.lists.setdefault(body, len(self.part.lists))
        return self._defaults[attribute]

    def read_folder(self, row: int, fd: int) -> list[Folder]:
        """Read the open folder `fd`, row number `row`; return its subfolders sorted by name.

        The process changes into the folder, so that bare names do. This loop runs once for every file of
        the tree: it does the least that it can and leaves all else to `tell`.
        """
        part, room = self.part, self._batch
        folders: list[Folder] = []
        try:
            os.fchdir(fd)
        except OSError as error:
            # Who may list a folder and not enter it learns names there, and nothing of what they stand for.
            self._miss_inside(row, error)
            return folders
        names = os.listdir(b".")
        if not room.has_room_for(len(names)):
            self.tell()
            room.has_room_for(len(names))
        here, how, what = WANTED
        call, listxattr, words = self.stat.call, os.listxattr, room.words
        mode_at = room.used * _WORDS + MODE_WORD - _WORDS
        for name, pointer in zip(names, room.pointers[room.used : room.used + len(names)], strict=True):
            mode_at += _WORDS
            try:
                if call(here, name, how, what, pointer):
                    raise self.stat.error()
                form = words[mode_at] & _TYPE
                if form == _FILE:
                    has = listxattr(name, follow_symlinks=False)
                    if has and _ACCESS in has:
                        self._lists.append(((mode_at - MODE_WORD) // _WORDS, self._list_of(name)))
                elif form == _FOLDER:
                    seen: Look = self.stat.unpack(room.room, (mode_at - MODE_WORD) * 2)
                    folders.append(self.look(name, seen))
            except (OSError, FormatError) as error:
                part.not_seen.append((row, name, why_not(error)))
                words[mode_at] = 0
        part.entries += len(names)
        room.add(row, names)
        if may_collide(names):
            part.collisions += ((row, name) for name in colliding_names(list(map(os.fsdecode, names))))
        if room.used > _SUM_UP_AFTER:
            self.tell()
        folders.sort(key=_by_name)
        return folders

    def _list_of(self, name: bytes) -> bytes:
        """Return the list of a file as the system stores it; what cannot be parsed is found out here, once."""
        found = os.getxattr(name, _ACCESS, follow_symlinks=False)
        if found not in self._understood:
            entries_from_attribute(found)
            self._understood.add(found)
        return found

    def tell(self) -> None:
        """Take apart what was read since the last time, add it up, and report the progress."""
        if self._batch.used:
            self._add_up(self._batch.take())
        self.progress(self.part.entries - self._told)
        self._told = self.part.entries

    def _add_up(self, told: Answers) -> None:
        part, form = self.part, told.mode & _TYPE
        numbers = self._list_numbers(told)
        files = np.flatnonzero(form == _FILE)
        others = np.flatnonzero((form != _FILE) & (form != _FOLDER) & (told.mode != 0))
        names = list(compress(told.names, (form == _FILE).tolist()))
        kinds = np.full(len(form), -1, dtype=np.int64)
        # The same as `kind_of`, for many: what follows the last dot, where there is something before it.
        known, nothing = self._kinds, self._kinds[b""]
        parted = map(methodcaller("rpartition", b"."), names)
        kinds[files] = [known[end] if start else nothing for start, _, end in parted]
        occupied = told.blocks * 512
        sized = [told.size, occupied]
        if len(files):
            columns = [told.folder, numbers, told.uid, kinds, told.size, told.blocks, told.changed]
            part.sums.append(sum_up(np.stack([column[files] for column in columns], axis=1), names))
        large = files[told.size[files] >= LARGE_BYTES]
        part.large += _flat([told.folder, numbers, told.uid, kinds, *sized, told.changed], large)
        part.large_names += [told.names[slot] for slot in large.tolist()]
        one = np.ones(len(form), dtype=np.int64)
        part.others += _flat([told.folder, numbers, told.uid, one, *sized], others)
        for slot in others.tolist():
            at = int(told.folder[slot]) * _FOLDER_WIDTH + (11 if form[slot] == _LINK else 12)
            part.folders[at] += 1
        several = np.flatnonzero((told.links > 1) & (form != _FOLDER) & (told.mode != 0))
        for slot in several.tolist():
            figures = (int(numbers[slot]), int(told.uid[slot]), int(kinds[slot]), int(told.inode[slot]))
            size = (int(told.size[slot]), int(occupied[slot]), device_of(int(told.device[slot])))
            part.hard.extend((int(told.folder[slot]), *figures, *size))

    def _list_numbers(self, told: Answers) -> Ints:
        """Return the number of each item's list, −1 for folders, whose lists are known already."""
        found = np.full(len(told.mode), -1, dtype=np.int64)
        items = np.flatnonzero((told.mode & _TYPE != _FOLDER) & (told.mode != 0))
        keys = told.mode[items] << 32 | told.gid[items]
        unique, place = np.unique(keys, return_inverse=True)
        numbers = [self._number_of(key >> 32, key & 0xFFFFFFFF, b"") for key in unique.tolist()]
        found[items] = np.array(numbers, dtype=np.int64)[place.reshape(-1)] if numbers else -1
        for slot, attribute in self._lists:
            if told.mode[slot]:
                found[slot] = self._number_of(int(told.mode[slot]), int(told.gid[slot]), attribute)
        self._lists.clear()
        return found

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


class _Kinds(dict[bytes, int]):
    """The numbers of kinds by what follows a name's last dot; new ones get the next."""

    def __init__(self, kinds: dict[str, int]) -> None:
        self._by_word = kinds

    def __missing__(self, end: bytes) -> int:
        text = os.fsdecode(end)
        number = self._by_word.setdefault(text if is_kind(text) else "", len(self._by_word))
        self[end] = number
        return number


def _flat(columns: list[Ints], rows: NDArray[np.intp]) -> list[int]:
    """Return some rows of columns, one after another."""
    found: list[int] = np.stack([column[rows] for column in columns], axis=1).ravel().tolist()
    return found


def may_collide(names: list[bytes]) -> bool:
    """Tell whether two of a folder's names may differ in letter case alone; mostly settled at once for all."""
    joined = b"\0".join(names)
    if joined.isascii():
        lower = joined.lower()
        if lower == joined:
            return False
        return len(set(lower.split(b"\0"))) != len(names)
    return len(set(os.fsdecode(joined).casefold().split("\0"))) != len(names)


def colliding_names(names: list[str]) -> list[bytes]:
    """Return the names that differ from another one only in letter case, those alike side by side."""
    alike: dict[str, list[str]] = {}
    for name in names:
        alike.setdefault(name.casefold(), []).append(name)
    return [os.fsencode(name) for folded in sorted(alike) for name in sorted(alike[folded]) if len(alike[folded]) > 1]


def _by_name(folder: Folder) -> bytes:
    return folder[0]
