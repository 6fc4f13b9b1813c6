"""A folder's list as text in its system's own language, both ways, whatever its model."""

from __future__ import annotations

import re
import struct
from collections.abc import Callable

from neatledger.core.lists import nfs4, nt, posix, role
from neatledger.core.lists.rights import spell_rights
from neatledger.core.lists.subjects import Subject
from neatledger.core.steps.contract import ItemState
from neatledger.errors import FormatError
from neatledger.formats import nfs4acl, posixacl, rolelist
from neatledger.formats.sddl import descriptor_from_sddl, descriptor_to_sddl

__all__ = ["IdentOf", "item_of_text", "text_of_body"]

IdentOf = Callable[[str, bool], str]
"""Makes an identifier of a name and whether it is a group's; raises `FormatError`."""

_HEAD = struct.Struct("<HI")
_NAMED = re.compile(r"\b(user|group|u|g):([^:,\n]+):")


def item_of_text(model: str, text: str, item: ItemState, ident_of: IdentOf) -> ItemState:
    """Return a folder with the list that a text says: POSIX text, SDDL, NFSv4 text or a list of roles.

    What the text does not speak of stays: the owner (but for an ``O:`` in SDDL), POSIX groups and default lists.
    Raises `FormatError`.
    """
    match model:
        case "posix":
            return ItemState(item.owner, _posix(text, item.body, ident_of), item.default)
        case "nt":
            descriptor = descriptor_from_sddl(text)
            return ItemState(descriptor.owner or item.owner, nt.pack_body(descriptor))
        case "nfs4":
            group = nfs4.Nfs4Model().parse(item.body).group
            return ItemState(item.owner, nfs4.pack_body(group, nfs4acl.entries_from_text(text, ident_of)))
        case _:
            return ItemState(item.owner, role.pack_body(rolelist.entries_from_text(text, ident_of)))


def _posix(text: str, before: bytes, ident_of: IdentOf) -> bytes:
    def resolved(match: re.Match[str]) -> str:
        return f"{match[1]}:{ident_of(match[2], match[1][0] == 'g')}:"

    mode, gid = _HEAD.unpack_from(before)
    entries = posixacl.entries_from_text(_NAMED.sub(resolved, text))
    if not entries:
        raise FormatError("an empty list: write at least user::, group:: and other::", repr(text))
    perm = {one.tag: one.perm for one in entries}
    # The mode's group bits stand for the mask where there is one (acl(5)).
    shown = perm[posix.USER_OBJ] << 6 | perm.get(posix.MASK, perm[posix.GROUP_OBJ]) << 3 | perm[posix.OTHER]
    packed = posixacl.pack_entries(entries) if posix.MASK in perm else posix.NO_ENTRIES
    return posix.pack_body(mode & 0o7000 | shown, gid, packed, mode & ~0o7777)


_KIND_WORDS = {Subject.USER: "user:", Subject.GROUP: "group:", Subject.EITHER: "anybody-called:"}
_SPECIAL_WORDS = {Subject.EVERYONE: "everyone", Subject.SIGNED_IN: "signed-in", Subject.OWNER: "owner"}


def text_of_body(model: str, body: bytes, owner: str = "") -> str:
    """Return a list as text; of an NT list with `owner` in it. Raises `FormatError` where one has no text form."""
    match model:
        case "posix":
            return posixacl.entries_to_text(posixacl.pack_entries(posix.unpack_entries(body)))
        case "nt":
            descriptor = nt.unpack_body(body)
            return descriptor_to_sddl(
                type(descriptor)(owner, descriptor.group, descriptor.dacl, None, descriptor.control)
            )
        case "nfs4":
            return nfs4acl.entries_to_text(nfs4.Nfs4Model().parse(body).entries)
        case _:
            return "; ".join(_role_word(entry) for entry in role.RoleModel().parse(body).entries)


def _role_word(entry: role.Entry) -> str:
    who = _SPECIAL_WORDS.get(entry.subject) or f"{_KIND_WORDS[entry.subject]}{entry.ident}"
    return f"{'' if entry.allows else 'deny '}{who}={spell_rights(entry.rights)}"
