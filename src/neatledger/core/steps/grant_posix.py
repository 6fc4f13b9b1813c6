"""What a POSIX list gives one holder by name, set so that nobody else's part of it changes.

The mask bounds what all named entries give. A grant may need a wider one, which would open what it had kept from
others: so their entries are cut to what the old mask left of them, and the mask is then what the entries say, as
setfacl(1) sets it. Where a mode's group bits are all off the kernel looks at no entry (`core.lists.posix`): entries
that did not count are not brought to life.
"""

from __future__ import annotations

import struct

from neatledger.core.lists.posix import (
    GROUP,
    GROUP_OBJ,
    MASK,
    OTHER,
    USER,
    USER_OBJ,
    Entry,
    pack_body,
    pack_entries,
    unpack_entries,
)
from neatledger.core.lists.rights import Right
from neatledger.core.steps.whom import Sort, Whom
from neatledger.errors import StepError

__all__ = ["as_default", "set_holder"]

_HEAD = struct.Struct("<HI")
_UNREAD = 0xFFFF
_R, _W, _X = 4, 2, 1


def _perm(rights: Right, is_folder: bool, runs: bool) -> int:
    perm = _R if rights & (Right.READ | Right.LIST | Right.VIEW) else 0
    perm |= _W if rights & (Right.ADD | Right.CHANGE) else 0
    # A file that nobody may execute is not made a program by a grant.
    return perm | (_X if (rights & (Right.ENTER | Right.READ) and (is_folder or (runs and perm & _R))) else 0)


def set_holder(body: bytes, whom: Whom, rights: Right | None, *, is_folder: bool, is_default: bool = False) -> bytes:
    """Return a list that gives a holder by name these rights and no others; None: it does not name them.

    A default list (`is_default`) has no mode beside it. Raises `StepError` for a list that could not be read.
    """
    mode, gid = _HEAD.unpack_from(body)
    if mode == _UNREAD:
        raise StepError("the list could not be read, so nothing is changed in it")
    entries = _counting(unpack_entries(body), is_default or bool(mode & 0o070))
    perm = 0 if rights is None else _perm(rights, is_folder, bool(mode & 0o111))
    key = _key(whom, gid, is_default)
    named = {(one.tag, one.ident): one.perm for one in entries}
    if rights is None and key[0] in (USER, GROUP):
        named.pop(key, None)
    else:
        named[key] = perm
    return _packed(mode, gid, named, is_default)


def as_default(body: bytes) -> bytes:
    """Return a folder's own list as that of what is made in it, as it counts; who makes it may do all with it."""
    named = {(one.tag, one.ident): one.perm for one in _counting(unpack_entries(body), True)}
    named[_key(Whom(Sort.OWNER), 0, True)] = 7
    return _packed(0, 0, named, True)


def _key(whom: Whom, gid: int, is_default: bool) -> tuple[int, int]:
    none = Entry(OTHER, 0).ident
    match whom.sort:
        case Sort.EVERYONE:
            return OTHER, none
        case Sort.OWNER:
            return USER_OBJ, none
        case Sort.GROUP if int(whom.ident) == gid and not is_default:
            return GROUP_OBJ, none
        case Sort.GROUP:
            return GROUP, int(whom.ident)
        case Sort.USER:
            return USER, int(whom.ident)


def _counting(entries: list[Entry], is_looked_at: bool) -> list[Entry]:
    """Return the entries as they count: cut by the mask, and without it."""
    mask = next((one.perm for one in entries if one.tag == MASK), 7)
    found = []
    for one in entries:
        if one.tag in (USER_OBJ, OTHER):
            found.append(one)
        elif one.tag == GROUP_OBJ or (one.tag in (USER, GROUP) and is_looked_at):
            found.append(Entry(one.tag, one.perm & mask if is_looked_at else 0, one.ident))
    return found


def _packed(mode: int, gid: int, named: dict[tuple[int, int], int], is_default: bool) -> bytes:
    perm = {tag: value for (tag, _), value in named.items() if tag in (USER_OBJ, GROUP_OBJ, OTHER)}
    group_class = perm[GROUP_OBJ]
    is_extended = any(tag in (USER, GROUP) for tag, _ in named)
    for (tag, _), value in named.items():
        group_class |= value if tag in (USER, GROUP) else 0
    entries = [Entry(tag, value, ident) for (tag, ident), value in named.items()]
    if is_extended:
        # With a mask of nothing no entry would be looked at, and who is named would have what all others have.
        entries.append(Entry(MASK, group_class or 7))
        group_class = group_class or 7
    if is_default:
        return pack_body(0, 0, pack_entries(entries))
    kept = mode & ~0o777
    body = kept | perm[USER_OBJ] << 6 | group_class << 3 | perm[OTHER]
    return pack_body(body & 0o7777, gid, pack_entries(entries) if is_extended else b"", body & ~0o7777)
