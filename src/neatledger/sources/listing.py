"""A listing: what one system holds as CSV files, for systems that cannot be reached from here.

Columns and files: docs/listing.md. The lists are of the model that the plan names (`lists`: posix, nt, nfs4).
Rows that cannot be read are noted as not seen, and the rest is read.
"""

from __future__ import annotations

import os
from collections.abc import Callable
from dataclasses import dataclass
from functools import lru_cache
from urllib.parse import unquote_to_bytes

from neatledger.core.access.shares import Share, open_to_all
from neatledger.core.lists import nfs4, nt, posix, role
from neatledger.core.lists.descriptors import is_sid
from neatledger.core.survey.survey import Facts, Survey
from neatledger.core.tree.columns import NotSeen, SeenState
from neatledger.errors import FormatError, SourceError
from neatledger.formats import nfs4acl, posixacl, rolelist
from neatledger.formats.sddl import descriptor_from_sddl
from neatledger.sources.accounts import Found, read_accounts, settle
from neatledger.sources.assemble import make_survey
from neatledger.sources.contract import SourceContext
from neatledger.sources.csvtables import Cells, read_table, yes_or_no
from neatledger.sources.rolelists import NOT_TOLD, resolve_lists
from neatledger.sources.rows import Row, RowTree
from neatledger.sources.shared import read_shared

__all__ = ["FORMS", "read"]

_TYPES = {"folder", "file", "link", "other"}
_FIGURES = ("bytes", "occupied", "changed", "identity", "links")


@dataclass(frozen=True, slots=True)
class _Form:
    """How one list model stands in a listing: the columns it needs, and how a row becomes owner and bodies."""

    needed: tuple[str, ...]
    parse: Callable[[Cells, _Names], tuple[str, bytes, bytes | None]]
    unread: bytes


class _Names:
    """The identifiers that names in a listing stand for."""

    def __init__(self, found: Found, domain: str) -> None:
        self.domain = domain
        self.users = {account.login: account.ident for account in found.accounts}
        self.groups = {group.name: group.ident for group in found.groups}

    def user(self, text: str) -> str:
        """Return the identifier of an owner: a number, a SID, or a login, with or without its domain."""
        return self._resolve(text, (self.users, self.groups))

    def of(self, text: str, is_group: bool) -> str:
        """Return the identifier of a name that is a group's or a user's."""
        return self._resolve(text, (self.groups if is_group else self.users,))

    def whoever(self, text: str, is_group: bool) -> str:
        """Return the identifier of a name, or the name itself where nobody is called so: of somebody who has left.

        An entry for them counts for nobody; it makes nothing unknown.
        """
        try:
            return self.of(text, is_group)
        except FormatError:
            return text

    @staticmethod
    def _resolve(text: str, among: tuple[dict[str, str], ...]) -> str:
        if not text or text.isdecimal() or is_sid(text):
            return text
        short = text.rpartition("\\")[2].partition("@")[0]
        for names in among:
            for name in (text, short):
                if name in names:
                    return names[name]
        raise FormatError(f"no account or group is called {text[:60]!r}")


# Of a million rows most have the lists of some others.
@lru_cache(maxsize=4096)
def _packed_entries(text: str) -> bytes:
    return posixacl.pack_entries(posixacl.entries_from_text(text))


@lru_cache(maxsize=4096)
def _packed_descriptor(text: str, domain: str) -> tuple[str, bytes]:
    descriptor = descriptor_from_sddl(text, domain)
    return descriptor.owner, nt.pack_body(descriptor)


def _posix(cells: Cells, names: _Names) -> tuple[str, bytes, bytes | None]:
    entries = _packed_entries(cells["list"])
    group = int(names.of(cells["group"], True) or 0)
    body = posix.pack_body(cells.number("mode", 8), group, entries)
    default = _packed_entries(cells["default"]) if cells["default"] else None
    return names.of(cells["owner"], False), body, None if default is None else posix.pack_body(0, 0, default)


def _nt(cells: Cells, names: _Names) -> tuple[str, bytes, bytes | None]:
    owner, body = _packed_descriptor(cells["list"], names.domain)
    return names.user(cells["owner"]) or owner, body, None


def _nfs4(cells: Cells, names: _Names) -> tuple[str, bytes, bytes | None]:
    entries = nfs4acl.entries_from_text(cells["list"], names.whoever)
    group = names.whoever(cells["group"], True)
    return names.whoever(cells["owner"], False), nfs4.pack_body(group, entries), None


def _role(cells: Cells, names: _Names) -> tuple[str, bytes, bytes | None]:
    text = cells["list"].strip()
    body = role.pack_body(rolelist.entries_from_text(text, names.of)) if text and text != "nobody" else b""
    return names.user(cells["owner"]), body if text else NOT_TOLD, None


FORMS = {
    "posix": _Form(("path", "type", "owner", "group", "mode"), _posix, posix.PosixModel.unread),
    "nt": _Form(("path", "type", "list"), _nt, nt.NtModel.unread),
    "nfs4": _Form(("path", "type", "owner", "group", "list"), _nfs4, nfs4.Nfs4Model.unread),
    "role": _Form(("path", "type"), _role, role.RoleModel.unread),
}
"""List model → its form in a listing; a new model is a row here."""


def read(context: SourceContext) -> Survey:
    """Read a listing; settings: path, lists, accounts, shares, list-table, columns, domain-sid."""
    settings = context.settings
    model = str(settings.get("lists", "posix"))
    found = read_accounts(context)
    names = _Names(found, str(settings.get("domain-sid", "")))
    tree = RowTree()
    not_seen: list[NotSeen] = []
    named = _named_lists(context, not_seen)
    path = str(settings["path"])
    for line, cells in read_table(context, "entries", path, FORMS[model].needed, not_seen):
        known = len(tree.rows)
        try:
            tree.add(_row(cells, FORMS[model], names, named))
        except (ValueError, FormatError) as error:
            not_seen.append(NotSeen.of_source(_line_of(context, path, line), f"a row that cannot be read: {error}"))
            _keep_place(tree, cells, FORMS[model])
        context.progress(len(tree.rows) - known)
    if () not in tree.rows:
        raise SourceError(
            "the listing has no row for its root", str(context.office_dir / path), "add a folder with the path /"
        )
    facts: Facts = {"entries": len(tree.rows), "read_only": 0, "pool_bytes": None, "pool_free_bytes": None}
    if isinstance(settings.get("shares"), str):
        facts["shares"] = [share.to_facts() for share in _shares(context, names, not_seen)]
    shared = read_shared(context, found, facts)
    if model == "role":
        resolve_lists(tree, {_path(os.fsdecode(team.path)) for team in shared.teams} if shared else (), b"")
    settle(facts, found, context)
    assembled = tree.assemble()
    accounts = (found.accounts, found.groups, found.not_seen + not_seen)
    survey = make_survey(context.system, "listing", assembled, accounts, facts, model)
    survey.shared = shared
    return survey


def _line_of(context: SourceContext, name: str, line: int) -> str:
    return f"{context.office_dir / name}:{line}"


def _named_lists(context: SourceContext, not_seen: list[NotSeen]) -> dict[str, str]:
    name = context.settings.get("list-table")
    if not name:
        return {}
    return {cells["id"]: cells["list"] for _, cells in read_table(context, "lists", name, ("id", "list"), not_seen)}


def _path(text: str) -> tuple[bytes, ...]:
    return tuple(part for part in unquote_to_bytes(os.fsencode(text)).split(b"/") if part)


def _row(cells: Cells, form: _Form, names: _Names, named: dict[str, str]) -> Row:
    kind = cells["type"]
    if kind not in _TYPES:
        raise ValueError(f"type {kind!r} is none of {', '.join(sorted(_TYPES))}")
    if cells["list"] in named:
        cells["list"] = named[cells["list"]]
    owner, body, default = form.parse(cells, names)
    size, occupied, changed, identity, links = (cells.number(column) for column in _FIGURES)
    path = _path(cells["path"])
    return Row(path, kind, owner, body, default, size, occupied, changed, identity, links)


def _keep_place(tree: RowTree, cells: Cells, form: _Form) -> None:
    """Keep the place of a folder or file whose row is damaged: its list is unknown, and all below it is there."""
    path = _path(cells["path"])
    if cells["type"] in ("folder", "file") and path not in tree.rows and cells["path"]:
        state = SeenState.LIST_UNKNOWN if cells["type"] == "folder" else SeenState.WHOLE
        tree.add(Row(path, cells["type"], "", form.unread, None, state=state))


def _shares(context: SourceContext, names: _Names, not_seen: list[NotSeen]) -> list[Share]:
    shares = []
    table = str(context.settings["shares"])
    for line, cells in read_table(context, "shares", table, ("name", "path"), not_seen):
        try:
            body = open_to_all()
            if cells["list"]:
                _, body = _packed_descriptor(cells["list"], names.domain)
            path = b"/" + b"/".join(_path(cells["path"]))
            shares.append(
                Share(cells["name"], path, body, yes_or_no(cells["read-only"], "read-only"), cells["place"])
            )
        except (ValueError, FormatError) as error:
            not_seen.append(NotSeen.of_source(_line_of(context, table, line), f"a row that cannot be read: {error}"))
    return shares
