"""Rights and levels: the words in which every list model and every way gives its answer."""

from __future__ import annotations

from enum import Enum, IntFlag
from functools import lru_cache

__all__ = [
    "ALL_RIGHTS",
    "EVERY_RIGHT",
    "FOLDER_RIGHTS",
    "LEVEL_RIGHTS",
    "Level",
    "Right",
    "level_of",
    "level_of_file",
    "parse_rights",
    "spell_rights",
    "with_view",
]


class Right(IntFlag):
    """What someone may do with an item; a set of them is a plain bit set.

    ``CLEAR`` and ``CLEAR_OWN`` belong to a folder and speak of what lies in it: to remove or rename any
    of its items, or only those one owns (a sticky folder). ``DELETE`` is the item's own removal. ``VIEW`` is
    looking at contents without being able to take them away; on a share nobody can have it without ``READ``.

    Three more are no rights, and travel with them between lists and those who ask lists: ``UNSURE``, an
    entry that cannot be evaluated may change the answer; ``UNSAID``, no entry speaks of this item's own
    removal; and ``CLEAR_UNSAID``, the folder's list says nothing of removal, and lets its holder add.
    """

    NONE = 0
    ENTER = 1
    LIST = 2
    READ = 4
    ADD = 8
    CHANGE = 16
    DELETE = 32
    SHARE = 64
    MANAGE = 128
    CLEAR = 256
    CLEAR_OWN = 512
    UNSURE = 1024
    UNSAID = 2048
    CLEAR_UNSAID = 4096
    VIEW = 8192


EVERY_RIGHT = Right(1023) | Right.VIEW
ALL_RIGHTS = EVERY_RIGHT & ~(Right.CLEAR_OWN | Right.VIEW)
FOLDER_RIGHTS = (Right.ENTER, Right.LIST, Right.ADD, Right.DELETE, Right.MANAGE)


class Level(Enum):
    """A name for a usual set of rights, in the order of how much they give."""

    NONE = "none"
    LIST = "list"
    VIEW = "view"
    ADD_ONLY = "add-only"
    MIXED = "mixed"
    READ = "read"
    WRITE = "write"
    MANAGE = "manage"
    UNKNOWN = "unknown"

    @classmethod
    def _missing_(cls, value: object) -> Level | None:
        # As it was called before: counts, packs and lists that were kept then have that word.
        return cls.ADD_ONLY if value == "drop" else None


_LIST = Right.ENTER | Right.LIST
_READ = _LIST | Right.READ
_WRITE = _READ | Right.ADD | Right.CHANGE | Right.DELETE | Right.CLEAR
LEVEL_RIGHTS: dict[Level, Right] = {
    Level.NONE: Right.NONE,
    Level.LIST: _LIST,
    Level.VIEW: _LIST | Right.VIEW,
    Level.ADD_ONLY: Right.ENTER | Right.ADD,
    Level.READ: _READ,
    Level.WRITE: _WRITE,
    Level.MANAGE: ALL_RIGHTS,
}

_BY_RIGHTS = {
    Right.LIST: Level.LIST,
    Right.LIST | Right.READ: Level.READ,
    Right.ADD: Level.ADD_ONLY,
    Right.LIST | Right.READ | Right.ADD: Level.WRITE,
    Right.LIST | Right.READ | Right.ADD | Right.DELETE: Level.WRITE,
    Right.LIST | Right.READ | Right.ADD | Right.MANAGE: Level.MANAGE,
    Right.LIST | Right.READ | Right.ADD | Right.MANAGE | Right.DELETE: Level.MANAGE,
}
_TELLING = Right.LIST | Right.READ | Right.ADD | Right.DELETE | Right.MANAGE


@lru_cache(maxsize=1024)
def level_of(rights: Right) -> Level:
    """Name the level of a folder's own rights; a set without a name of its own is `Level.MIXED`.

    Removal of the folder itself does not tell `write` from `manage`, since a share's own root can be
    removed by nobody; with less than `write` it is unusual and makes the set mixed.
    """
    telling = rights & _TELLING
    if not telling:
        return Level.MIXED if rights & (Right.ENTER | Right.SHARE | Right.VIEW) else Level.NONE
    if rights & Right.VIEW and not rights & Right.READ:
        return Level.VIEW if telling == Right.LIST else Level.MIXED
    if telling == Right.LIST and not rights & Right.ENTER:
        # Names alone, of what cannot be got at.
        return Level.MIXED
    return _BY_RIGHTS.get(telling, Level.MIXED)


@lru_cache(maxsize=1024)
def level_of_file(rights: Right) -> Level:
    """Name the level of what someone may do with one file."""
    telling = rights & (Right.READ | Right.CHANGE | Right.MANAGE)
    if rights & Right.VIEW and not rights & Right.READ:
        return Level.MIXED if telling else Level.VIEW
    by_rights = {
        Right.NONE: Level.MIXED if rights & Right.DELETE else Level.NONE,
        Right.READ: Level.READ,
        Right.READ | Right.CHANGE: Level.WRITE,
        Right.READ | Right.CHANGE | Right.MANAGE: Level.MANAGE,
    }
    return by_rights.get(telling, Level.MIXED)


def with_view(rights: Right) -> Right:
    """Return rights with what reading brings along: who may take contents away may look at them."""
    return rights | Right.VIEW if rights & Right.READ else rights


def parse_rights(text: str) -> Right:
    """Return the rights that a level's name or words such as ``list read add`` stand for; raises `ValueError`."""
    words = text.casefold().split()
    level = Level(words[0]) if len(words) == 1 and words[0] in _LEVEL_WORDS else None
    if level in LEVEL_RIGHTS:
        return with_view(LEVEL_RIGHTS[level])
    by_word = {word: right for right, word in _SPELLED}
    unknown = [word for word in words if word not in by_word]
    if unknown or not words:
        known = ", ".join(level.value for level in LEVEL_RIGHTS)
        raise ValueError(f"{text[:60]!r} is neither a level ({known}) nor words for rights ({', '.join(by_word)})")
    rights = Right.NONE
    for word in words:
        rights |= by_word[word]
    # What lies in a folder can be removed by whoever may delete there.
    return with_view(rights | (Right.CLEAR if rights & Right.DELETE else Right.NONE))


_LEVEL_WORDS = {"drop", *(level.value for level in LEVEL_RIGHTS)}
_SPELLED = (
    (Right.ENTER, "enter"),
    (Right.LIST, "list"),
    (Right.READ, "read"),
    (Right.VIEW, "view"),
    (Right.ADD, "add"),
    (Right.CHANGE, "change"),
    (Right.DELETE, "delete"),
    (Right.SHARE, "share"),
    (Right.MANAGE, "manage"),
)


@lru_cache(maxsize=1024)
def spell_rights(rights: Right) -> str:
    """Spell a set of rights out in their fixed order, ``nothing`` for the empty set."""
    shown = rights & ~Right.VIEW if rights & Right.READ else rights
    words = [word for right, word in _SPELLED if shown & right]
    return " ".join(words) or "nothing"
