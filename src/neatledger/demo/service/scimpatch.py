"""Changing people and groups over SCIM: PATCH (RFC 7644 section 3.5.2) of an account's switch, and of members."""

from __future__ import annotations

import re
from collections.abc import Mapping
from typing import Any

from neatledger.demo.service.store import Store

__all__ = ["PatchError", "patch"]

_MEMBER = re.compile(r'members\[value eq "([^"]*)"\]', re.IGNORECASE)


class PatchError(Exception):
    """What was asked cannot be done; `kind` is the word of section 3.12 for it."""

    def __init__(self, detail: str, kind: str = "invalidValue") -> None:
        super().__init__(detail)
        self.kind = kind


def patch(store: Store, kind: str, ident: str, body: Any) -> None:
    """Do all operations of a request, or none; raises `PatchError`."""
    operations = body.get("Operations") if isinstance(body, Mapping) else None
    if not isinstance(operations, list) or not operations:
        raise PatchError("no Operations", "invalidSyntax")
    if kind == "Users":
        # A password is set alone, and told to nobody (RFC 7643 section 4.1.1).
        word = _password(operations)
        if word is not None:
            store.set_password(next(user["login"] for known, user in store.users() if known == ident), word)
            return
        store.set_active(ident, _active(operations))
        return
    idents = {known: user["login"] for known, user in store.users()}
    members = next(inside for known, _, inside in store.groups() if known == ident)
    for one in operations:
        members = _changed(members, one, idents)
    store.set_members(ident, members)


def _password(operations: list[Any]) -> str | None:
    """Return the password that a request sets; None where it sets none."""
    if len(operations) != 1 or not isinstance(operations[0], Mapping):
        return None
    path, value = str(operations[0].get("path", "")).lower(), operations[0].get("value")
    return value if path == "password" and isinstance(value, str) and len(value) >= 8 else None


def _active(operations: list[Any]) -> bool:
    value: Any = None
    for one in operations:
        if not isinstance(one, Mapping) or str(one.get("op", "")).lower() not in ("replace", "add"):
            raise PatchError("only active can be changed here", "mutability")
        path, given = str(one.get("path", "")).lower(), one.get("value")
        if not path and isinstance(given, Mapping) and {key.lower() for key in given} == {"active"}:
            value = next(iter(given.values()))
        elif path == "active":
            value = given
        else:
            raise PatchError("only active can be changed here", "mutability")
    if not isinstance(value, bool):
        raise PatchError("active is true or false")
    return value


def _changed(members: list[str], operation: Any, idents: Mapping[str, str]) -> list[str]:
    if not isinstance(operation, Mapping):
        raise PatchError("an operation is an object", "invalidSyntax")
    word, path = str(operation.get("op", "")).lower(), str(operation.get("path", ""))
    single = _MEMBER.fullmatch(path)
    if word == "remove" and single:
        if idents.get(single[1]) not in members:
            raise PatchError("no such member", "noTarget")
        return [one for one in members if one != idents[single[1]]]
    if word == "add" and path.lower() == "members":
        added = operation.get("value")
        objects = [one for one in added if isinstance(one, Mapping)] if isinstance(added, list) else []
        values = [one.get("value") for one in objects]
        if not values or any(value not in idents for value in values):
            raise PatchError("a member that nobody is")
        return list(dict.fromkeys([*members, *(idents[str(value)] for value in values)]))
    raise PatchError("add to members, or remove one of them", "invalidPath")
