"""What an NT list gives one holder by name, set so that nobody else's part of it changes.

Entries stand in the usual order afterwards: own refusals, own grants, then those from above (MS-DTYP 2.4.4.1 with
2.5.3.4.1). An entry from above cannot be taken away where it only arrived: the list is closed to the folder above,
and what came from there stands in it as its own.
"""

from __future__ import annotations

from dataclasses import replace

from neatledger.core.lists.descriptors import (
    CONTAINER_INHERIT,
    DACL_PRESENT,
    INHERITED,
    OBJECT_INHERIT,
    PROTECTED,
    Ace,
    AceType,
    Acl,
    is_sid,
)
from neatledger.core.lists.identifiers import EVERYONE, OWNER_RIGHTS
from neatledger.core.lists.nt import FULL, NtModel, map_generic, pack_body, unpack_body
from neatledger.core.lists.ordered import FILE_BITS, FOLDER_BITS
from neatledger.core.lists.rights import LEVEL_RIGHTS, Level, Right
from neatledger.core.steps.whom import Sort, Whom
from neatledger.errors import StepError

__all__ = ["mask_of", "set_holder"]

_PLAIN = frozenset({AceType.ALLOW, AceType.DENY})
# What goes with any grant: reading attributes and the list, and waiting for the item (MS-SMB2 2.2.13.1.1).
_WITH_ALL = 0x00120080
_TELLING = Right.LIST | Right.READ | Right.ADD | Right.MANAGE
_USUAL = {Level.READ: 0x1200A9, Level.WRITE: 0x1301BF, Level.MANAGE: FULL}


def mask_of(rights: Right, *, is_folder: bool) -> int:
    """Return the mask for some rights: that which people set by name where there is one."""
    for level, mask in _USUAL.items():
        if rights & _TELLING == LEVEL_RIGHTS[level] & _TELLING and rights & Right.ENTER:
            return mask
    bits = sum(bit for bit, right in (FOLDER_BITS if is_folder else FILE_BITS) if right & rights)
    return bits | _WITH_ALL if bits else 0


def set_holder(body: bytes, whom: Whom, rights: Right | None, *, is_folder: bool) -> bytes:
    """Return a list that gives a holder by name these rights and no others; None: it does not name them.

    Raises `StepError` for a list that could not be read, is none, or names them on a condition.
    """
    if body == NtModel.unread:
        raise StepError("the list could not be read, so nothing is changed in it")
    descriptor = unpack_body(body)
    sid = {Sort.EVERYONE: EVERYONE, Sort.OWNER: OWNER_RIGHTS}.get(whom.sort, whom.ident)
    if rights and not is_sid(sid):
        raise StepError(f"{whom.name or sid} has no identifier there yet: make the account, and count, first")
    if descriptor.dacl is None:
        raise StepError("it has no list at all, which lets everyone do everything: set a list first")
    aces = list(descriptor.dacl.aces)
    if any(ace.sid == sid and ace.type not in _PLAIN and ace.raw is None for ace in aces):
        raise StepError("an entry names them on a condition, or for objects: a person must look at it")
    control = descriptor.control | DACL_PRESENT
    if any(ace.sid == sid and ace.flags & INHERITED for ace in aces):
        aces = [replace(ace, flags=ace.flags & ~INHERITED) for ace in aces]
        control |= PROTECTED
    aces = [ace for ace in aces if ace.sid != sid or ace.raw is not None]
    mask = 0 if rights is None else mask_of(rights, is_folder=is_folder)
    if mask:
        if sid not in NtModel.everyone_has and any(_refuses_all(ace, mask) for ace in aces):
            # Refusals stand before grants in the usual order, so that a grant would give nothing here.
            raise StepError("everyone is refused this there by an entry of its own: take that refusal out first")
        flags = OBJECT_INHERIT | CONTAINER_INHERIT if is_folder else 0
        place = next((n for n, ace in enumerate(aces) if ace.flags & INHERITED), len(aces))
        aces.insert(place, Ace(AceType.ALLOW, flags, mask, sid))
    return pack_body(replace(descriptor, dacl=Acl(tuple(aces), descriptor.dacl.revision), control=control))


def _refuses_all(ace: Ace, mask: int) -> bool:
    is_own = not ace.flags & INHERITED and not ace.is_inherit_only
    return (
        is_own
        and ace.sid in NtModel.everyone_has
        and ace.type == AceType.DENY
        and bool(map_generic(ace.mask) & mask & ~_WITH_ALL)
    )
