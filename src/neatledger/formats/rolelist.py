"""Lists of roles as text: ``user:hale=write; group:vets=read; deny group:students=change; everyone=list``."""

from __future__ import annotations

from collections.abc import Callable

from neatledger.core.lists.rights import Right, parse_rights
from neatledger.core.lists.role import Entry
from neatledger.core.lists.subjects import Subject
from neatledger.errors import FormatError

__all__ = ["entries_from_text"]

_KINDS = {"user": Subject.USER, "group": Subject.GROUP, "anybody-called": Subject.EITHER}
_SPECIAL = {"everyone": Subject.EVERYONE, "signed-in": Subject.SIGNED_IN, "owner": Subject.OWNER}


def entries_from_text(text: str, ident_of: Callable[[str, bool], str]) -> list[Entry]:
    """Parse a list; `ident_of` gives the identifier of a user's or group's name; raises `FormatError`."""
    found = []
    for part in text.split(";"):
        if not part.strip():
            continue
        who, equals, rights = part.strip().rpartition("=")
        allows = not who.startswith("deny ")
        kind, _, name = who.removeprefix("deny ").strip().partition(":")
        if not equals or (kind not in _KINDS and kind not in _SPECIAL) or bool(name) != (kind in _KINDS):
            raise FormatError(f"{part.strip()[:60]!r} is no entry such as user:hale=write or everyone=read")
        try:
            given = parse_rights(rights)
        except ValueError as error:
            raise FormatError(str(error)) from None
        if allows:
            # A folder goes with the one above it: who may remove what is in that one may remove it.
            given &= ~Right.DELETE
        if kind in _SPECIAL:
            found.append(Entry(_SPECIAL[kind], "", given, allows))
        else:
            found.append(Entry(_KINDS[kind], ident_of(name, kind == "group"), given, allows))
    return found
