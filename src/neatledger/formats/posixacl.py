"""POSIX.1e lists: the Linux attribute's binary form, and the short and long text forms.

Binary: linux/posix_acl_xattr.h, version 2, little-endian: a 4-byte version, then 8 bytes an entry (tag,
permissions, identifier). Text: POSIX.1e draft 17 section 23.3, as in acl(5); numeric identifiers.
"""

from __future__ import annotations

import re
import struct
from collections.abc import Iterable

from neatledger.core.lists.posix import GROUP, GROUP_OBJ, MASK, OTHER, USER, USER_OBJ, Entry, pack_entries
from neatledger.errors import FormatError

__all__ = [
    "entries_from_attribute",
    "entries_from_text",
    "entries_to_attribute",
    "entries_to_text",
    "pack_entries",
]

_VERSION = struct.pack("<I", 2)
_ENTRY = struct.Struct("<HHI")
_NO_IDENT = 0xFFFFFFFF
_TAGS = {"user": (USER_OBJ, USER), "group": (GROUP_OBJ, GROUP), "mask": (MASK, None), "other": (OTHER, None)}
_TAGS |= {word[0]: tags for word, tags in list(_TAGS.items())}
_WORDS = {USER_OBJ: "user", USER: "user", GROUP_OBJ: "group", GROUP: "group", MASK: "mask", OTHER: "other"}
_PERM = re.compile(r"^[rwx-]{1,3}$")


def entries_from_attribute(value: bytes) -> bytes:
    """Return the packed entries of an attribute's value; raises `FormatError`."""
    if value[:4] != _VERSION or len(value) % _ENTRY.size != 4:
        raise FormatError("not a POSIX access list of version 2", f"{len(value)} bytes beginning {value[:4].hex()}")
    return value[4:]


def entries_to_attribute(entries: Iterable[Entry]) -> bytes:
    """Return the attribute's value for `entries`."""
    return _VERSION + pack_entries(entries)


def entries_from_text(text: str) -> list[Entry]:
    """Parse the text form, entries parted by commas or newlines, comments from ``#``; raises `FormatError`.

    Identifiers must be numbers: names are a matter of the system's accounts and resolved before.
    """
    entries: list[Entry] = []
    for number, line in enumerate(re.split(r"[,\n]", text), start=1):
        word = line.partition("#")[0].strip()
        if not word:
            continue
        entries.append(_entry_from_text(word, number))
    seen = [(entry.tag, entry.ident) for entry in entries]
    if len(set(seen)) != len(seen):
        raise FormatError("the same entry stands twice", repr(text))
    if entries:
        missing = {USER_OBJ, GROUP_OBJ, OTHER} - {entry.tag for entry in entries}
        if missing:
            raise FormatError(f"no entry {', '.join(sorted(_WORDS[tag] + '::' for tag in missing))}", repr(text))
        named = any(entry.tag in (USER, GROUP) for entry in entries)
        if named and MASK not in {entry.tag for entry in entries}:
            raise FormatError("named entries without a mask", repr(text))
    return entries


def _entry_from_text(word: str, number: int) -> Entry:
    parts = [part.strip() for part in word.split(":")]
    if len(parts) == 2 and parts[0] in ("mask", "m", "other", "o"):
        parts.insert(1, "")
    if len(parts) != 3 or parts[0] not in _TAGS or not _PERM.match(parts[2]):
        raise FormatError(f"not an entry: {word!r}", f"entry {number}", "write it as user:1001:rwx")
    plain, named = _TAGS[parts[0]]
    perm = sum(bit for letter, bit in (("r", 4), ("w", 2), ("x", 1)) if letter in parts[2])
    if not parts[1]:
        return Entry(plain, perm)
    if named is None or not parts[1].isdecimal() or len(parts[1]) > 10 or int(parts[1]) >= _NO_IDENT:
        raise FormatError(f"not a user's or group's number: {parts[1][:40]!r}", f"entry {number}")
    return Entry(named, perm, int(parts[1]))


def entries_to_text(entries: bytes) -> str:
    """Return the short text form of packed entries: parted by commas, numeric."""
    words = []
    for tag, perm, ident in _ENTRY.iter_unpack(entries):
        who = str(ident) if tag in (USER, GROUP) else ""
        bits = "".join(letter if perm & bit else "-" for letter, bit in (("r", 4), ("w", 2), ("x", 1)))
        words.append(f"{_WORDS.get(tag, tag)}:{who}:{bits}")
    return ",".join(words)
