"""What many items were told by the system, kept as it came and taken apart all at once.

A tree has millions of files, and what is done for each of them decides how long reading takes: so the answers of
statx(2) stay in one piece of memory, and NumPy takes them apart when it is full.
"""

from __future__ import annotations

import ctypes
from dataclasses import dataclass, field
from functools import cache

import numpy as np
from numpy.typing import NDArray

from neatledger.core.lists import posix
from neatledger.sources.statx import ANSWER, APPEND_ONLY, IMMUTABLE
from neatledger.sources.sums import Ints

__all__ = ["ANSWER_BYTES", "FLAGS_AT", "Answers", "Batch", "batch", "with_flags"]

ANSWER_BYTES = ANSWER.itemsize
_FEWEST_SLOTS = 16384
FLAGS_AT = 16
"""Above how many bits of a mode the flags of the inode stand."""


def with_flags(mode: int, flags: int) -> int:
    """Return the mode of an item, and above its sixteen bits the flags of the inode as stored lists have them."""
    kept = posix.IMMUTABLE if flags & IMMUTABLE else 0
    return mode | (kept | (posix.APPEND_ONLY if flags & APPEND_ONLY else 0)) << FLAGS_AT


@dataclass(frozen=True, slots=True)
class Answers:
    """What was told of the items of some folders, in columns of equal length; `names` are theirs.

    `mode` has the inode's flags above its sixteen bits, 0 stands for an item that was not seen; sizes are bytes,
    `changed` Unix seconds, `device` has the major number below the minor one.
    """

    names: list[bytes]
    folder: Ints
    mode: Ints
    gid: Ints
    uid: Ints
    links: Ints
    inode: NDArray[np.uint64]
    size: Ints
    blocks: Ints
    changed: Ints
    device: NDArray[np.uint64]


@dataclass(slots=True)
class Batch:
    """Room for answers; `used` slots hold one, a folder's side by side, of the `names` and `folders` in order."""

    used: int = 0
    names: list[bytes] = field(default_factory=list)
    folders: list[tuple[int, int]] = field(default_factory=list)
    room: ctypes.Array[ctypes.c_char] = field(init=False)
    pointers: list[ctypes.c_void_p] = field(init=False)
    words: memoryview = field(init=False)
    slots: int = field(init=False)

    def __post_init__(self) -> None:
        self._make_room(_FEWEST_SLOTS)

    def _make_room(self, slots: int) -> None:
        self.slots = slots
        self.room = ctypes.create_string_buffer(slots * ANSWER_BYTES)
        address = ctypes.addressof(self.room)
        self.pointers = [ctypes.c_void_p(address + slot * ANSWER_BYTES) for slot in range(slots)]
        # Where a loop wants a single number, of 16 bits, of some answer.
        self.words = memoryview(self.room).cast("B").cast("H")

    def has_room_for(self, items: int) -> bool:
        """Tell whether a folder's items have room; an empty batch makes as much as they need."""
        if self.used + items <= self.slots:
            return True
        if self.used:
            return False
        self._make_room(items)
        return True

    def add(self, folder: int, names: list[bytes]) -> None:
        """Add a folder's items, whose answers are in the next slots."""
        self.names += names
        self.folders.append((folder, len(names)))
        self.used += len(names)

    def take(self) -> Answers:
        """Return what is there, and begin anew."""
        raw = np.frombuffer(memoryview(self.room).cast("B"), dtype=ANSWER, count=self.used)
        mode = raw["mode"].astype(np.int64)
        for slot in np.flatnonzero(raw["flags"] & np.uint64(IMMUTABLE | APPEND_ONLY)).tolist():
            mode[slot] = with_flags(int(mode[slot]), int(raw["flags"][slot]))
        rows, counts = np.array(self.folders, dtype=np.int64).reshape(-1, 2).T
        found = Answers(
            names=self.names,
            folder=np.repeat(rows, counts),
            mode=mode,
            gid=raw["gid"].astype(np.int64),
            uid=raw["uid"].astype(np.int64),
            links=raw["links"].astype(np.int64),
            inode=raw["inode"].copy(),
            size=raw["size"].astype(np.int64),
            blocks=raw["blocks"].astype(np.int64),
            changed=raw["changed"].astype(np.int64),
            device=raw["device"].copy(),
        )
        self.used, self.names, self.folders = 0, [], []
        return found


@cache
def batch() -> Batch:
    """Return this process's batch; whoever reads a part of a tree takes from it all that they put in."""
    return Batch()
