"""NFSv4 access lists as text, both ways: ``type:flags:who:permissions``, parted by commas or newlines.

The letters are those that several programs for NFSv4 write for the constants of RFC 8881 section 6.2.1:
types A D U L, flags f d n i S F g (and I, inherited), permissions r w a x d D t T n N c C o y, with R, W and X
for the generic sets. A mask with other bits is written as a number, as in ``0x200``.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable

from neatledger.core.lists.nfs4 import IS_GROUP, SPECIAL, Entry
from neatledger.errors import FormatError

__all__ = ["entries_from_text", "entries_to_text"]

_TYPES = {"A": 0, "D": 1, "U": 2, "L": 3}
_FLAGS = {"f": 0x1, "d": 0x2, "n": 0x4, "i": 0x8, "S": 0x10, "F": 0x20, "g": IS_GROUP, "I": 0x80}
_BITS = {
    "r": 0x1, "w": 0x2, "a": 0x4, "D": 0x40, "d": 0x10000, "x": 0x20, "t": 0x80, "T": 0x100, "n": 0x8, "N": 0x10,
    "c": 0x20000, "C": 0x40000, "o": 0x80000, "y": 0x100000,
}  # fmt: skip
_SETS = {"R": 0x120081, "W": 0x160106, "X": 0x1200A0}
_NUMBER = re.compile(r"0x[0-9a-fA-F]{1,8}")


def entries_from_text(text: str, resolve: Callable[[str, bool], str] = lambda who, is_group: who) -> list[Entry]:
    """Parse a list; raises `FormatError` with the number of the entry.

    `resolve` makes an identifier of a name and whether it is a group's; it may raise `FormatError`.
    """
    entries: list[Entry] = []
    for number, line in enumerate(re.split(r"[,\n]", text), start=1):
        word = line.partition("#")[0].strip()
        if word:
            entries.append(_entry(word, f"entry {number}", resolve))
    return entries


def _entry(word: str, where: str, resolve: Callable[[str, bool], str]) -> Entry:
    parts = word.split(":")
    if len(parts) != 4 or parts[0] not in _TYPES or not parts[2]:
        raise FormatError(f"not an entry: {word[:60]!r}", where, "write it as A:fd:OWNER@:rwx")
    kind, flags, who, perms = parts
    strange = set(flags) - _FLAGS.keys()
    if strange:
        raise FormatError(f"not flags of an entry: {flags[:20]!r}", where)
    found = sum(_FLAGS[letter] for letter in set(flags))
    if _NUMBER.fullmatch(perms):
        mask = int(perms, 16)
    else:
        mask = 0
        for letter in perms:
            if letter not in _BITS and letter not in _SETS:
                raise FormatError(f"no permission is called {letter!r}", where)
            mask |= _BITS.get(letter, 0) | _SETS.get(letter, 0)
    if who not in SPECIAL:
        who = resolve(who, bool(found & IS_GROUP))
    return Entry(_TYPES[kind], found, mask, who)


def entries_to_text(entries: Iterable[Entry]) -> str:
    """Return the text form, entries parted by commas; raises `FormatError` for a type without a letter."""
    words = []
    for entry in entries:
        kind = next((letter for letter, number in _TYPES.items() if number == entry.type), None)
        if kind is None:
            raise FormatError(f"entries of type {entry.type} have no text form")
        flags = "".join(letter for letter, bit in _FLAGS.items() if entry.flags & bit)
        perms = "".join(letter for letter, bit in _BITS.items() if entry.mask & bit)
        if entry.mask & ~sum(_BITS.values()):
            perms = f"0x{entry.mask:x}"
        words.append(f"{kind}:{flags}:{entry.who}:{perms}")
    return ",".join(words)
