"""The columns of a survey's tables, and single rows of them; needs no NumPy."""

from __future__ import annotations

from dataclasses import dataclass
from enum import IntEnum

__all__ = [
    "CLASS_COLUMNS",
    "COLLISION_COLUMNS",
    "COLUMNS",
    "FOLDER_COLUMNS",
    "HARD_COLUMNS",
    "KEY_TOTAL_COLUMNS",
    "LARGE_BYTES",
    "LARGE_COLUMNS",
    "ODD_COLUMNS",
    "OTHER_COLUMNS",
    "TOTAL_COLUMNS",
    "FolderFacts",
    "NotSeen",
    "OddFile",
    "SeenState",
    "is_kind",
    "kind_of",
    "kinds_of",
]

# Column name → NumPy dtype; "bytes" is a column of byte strings. Sizes are bytes, times Unix seconds.
FOLDER_COLUMNS = {
    "name": "bytes",
    "parent": "i4",
    "first_child": "i4",
    "children": "i4",
    "list": "i4",
    "default": "i4",
    "owner": "i4",
    "state": "u1",
    "bytes": "i8",
    "occupied": "i8",
    "changed": "i8",
    "inode": "u8",
    "device": "u8",
    "links": "i4",
    "specials": "i4",
    "first_class": "i4",
    "classes": "i4",
    "first_odd": "i4",
    "odds": "i4",
}
CLASS_COLUMNS = {
    "folder": "i4",
    "list": "i4",
    "owner": "i4",
    "kind": "i4",
    "files": "i4",
    "bytes": "i8",
    "occupied": "i8",
    "changed": "i8",
}
ODD_COLUMNS = {"folder": "i4", "name": "bytes", "list": "i4", "owner": "i4"}
HARD_COLUMNS = {
    "folder": "i4",
    "list": "i4",
    "owner": "i4",
    "kind": "i4",
    "inode": "u8",
    "bytes": "i8",
    "occupied": "i8",
    "device": "u8",
}
# Symbolic links and special files, added up; a hard link of theirs has the kind −1.
OTHER_COLUMNS = {"folder": "i4", "list": "i4", "owner": "i4", "items": "i4", "bytes": "i8", "occupied": "i8"}
# Files of `LARGE_BYTES` and more, one by one.
LARGE_COLUMNS = {
    "folder": "i4",
    "name": "bytes",
    "list": "i4",
    "owner": "i4",
    "kind": "i4",
    "bytes": "i8",
    "occupied": "i8",
    "changed": "i8",
}
# What a folder holds with all below it (a row for every folder), and the whole system by owner, kind and list,
# several names of one object counted once. Keys below zero are not those of files (see `usage`).
TOTAL_COLUMNS = {"files": "i8", "bytes": "i8", "occupied": "i8"}
KEY_TOTAL_COLUMNS = {"key": "i4", **TOTAL_COLUMNS}
LARGE_BYTES = 8 * 1024**2


_LONGEST_ODD = 10


def kind_of(name: bytes) -> bytes:
    """Return a file's kind: what follows the last dot of its name, in small letters; empty where none does."""
    dot = name.rfind(b".") + 1
    text = name[dot:].decode("utf-8", "surrogateescape") if dot > 1 else ""
    return text.lower().encode("utf-8", "surrogateescape") if is_kind(text) else b""


def is_kind(text: str) -> bool:
    """Tell whether what follows a dot says what kind a file is of, and is not the end of a sentence or a number.

    Words of letters, digits, ``-``, ``_`` and ``+`` may be of any length.
    """
    return len(text) <= _LONGEST_ODD or text.translate(_IN_WORDS).isalnum()


_IN_WORDS = str.maketrans("", "", "-_+")


def kinds_of(name: bytes) -> tuple[bytes, ...]:
    """Return a file's kind as counts have it: older ones took whatever was longer than ten signs for none."""
    kind = kind_of(name)
    return (kind,) if len(kind.decode("utf-8", "surrogateescape")) <= _LONGEST_ODD else (kind, b"")


class SeenState(IntEnum):
    """How much of a folder was seen; what was not seen is unknown, never "no access"."""

    WHOLE = 0
    NOT_OPENED = 1
    OTHER_FILE_SYSTEM = 2
    LIST_UNKNOWN = 3


COLLISION_COLUMNS = {"folder": "i4", "name": "bytes"}

COLUMNS: dict[str, dict[str, str]] = {
    "folders": FOLDER_COLUMNS,
    "classes": CLASS_COLUMNS,
    "odd": ODD_COLUMNS,
    "hard": HARD_COLUMNS,
    "others": OTHER_COLUMNS,
    "large": LARGE_COLUMNS,
    "totals": TOTAL_COLUMNS,
    "owner_totals": KEY_TOTAL_COLUMNS,
    "kind_totals": KEY_TOTAL_COLUMNS,
    "list_totals": KEY_TOTAL_COLUMNS,
    "collisions": COLLISION_COLUMNS,
    "lists": {"body": "bytes"},
    "idents": {"text": "bytes"},
    "kinds": {"word": "bytes"},
}
"""Every table of a survey: column → dtype."""


@dataclass(frozen=True, slots=True)
class NotSeen:
    """Something that could not be seen, and why.

    It is an item, by its path below the root; or, with an empty path, a part of what the system is read
    from: a line of a file (``export.csv:12``), an address. Then `source` says which.
    """

    path: bytes
    why: str
    source: str = ""

    @classmethod
    def of_source(cls, source: str, why: str) -> NotSeen:
        """Return a fault of what the system is read from."""
        return cls(b"", why, source)


@dataclass(frozen=True, slots=True)
class FolderFacts:
    """One folder: the numbers of its lists, its owner's identifier, and the rows that belong to it."""

    row: int
    name: bytes
    parent: int
    list: int
    default: int
    owner: str
    state: SeenState
    children: range
    classes: range
    odds: range


@dataclass(frozen=True, slots=True)
class OddFile:
    """A file kept by name since its list or owner differs from that of most of its neighbours."""

    name: bytes
    list: int
    owner: str
