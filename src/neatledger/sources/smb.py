"""A live SMB 3 server: its shares with their permissions, all below them, and who its identifiers are.

The system's root holds the shares: ``loft:/Records`` is the share Records. What the server refuses is
noted as not seen. Where it goes away it is waited for, a bounded time, and read on from there; where it stays away,
and where it cannot be reached at all, that is an error: half a server is not kept for a whole one.
"""

from __future__ import annotations

import os
from collections.abc import Callable, Mapping
from dataclasses import dataclass, replace
from typing import Any

from neatledger.core.access.shares import Share
from neatledger.core.lists.descriptors import unpack_descriptor
from neatledger.core.lists.holders import Holder
from neatledger.core.lists.nt import NtModel, pack_body
from neatledger.core.lists.rights import Right
from neatledger.core.people.membership import holders_of
from neatledger.core.survey.survey import Facts, Survey
from neatledger.core.tree.columns import SeenState
from neatledger.errors import FormatError, SourceError
from neatledger.formats.sddl import descriptor_from_sddl
from neatledger.sources.accounts import Found, named_identifiers, settle
from neatledger.sources.assemble import make_survey
from neatledger.sources.contract import SourceContext
from neatledger.sources.rows import Path, Row, RowTree, server_root
from neatledger.sources.smbaccounts import read_smb_accounts
from neatledger.sources.smbentries import Entry
from neatledger.sources.smberrors import Lost, Refused
from neatledger.sources.smbnames import read_shares
from neatledger.sources.smbsession import Terms
from neatledger.sources.smbsteady import SteadySession
from neatledger.sources.smbwire import Answer, Wire

__all__ = ["read"]

_UNREAD = NtModel.unread
_WRITE_DATA = 0x2  # FILE_WRITE_DATA, MS-DTYP 2.4.3 with MS-FSCC


def read(context: SourceContext) -> Survey:
    """Read a server; settings: host, port, user, shares, timeout, accounts, allow-guest, allow-unsigned."""
    settings = context.settings
    terms = Terms.of_settings(settings)
    user = str(settings.get("user", ""))
    with SteadySession(terms, terms.credentials(user, context.credentials), context.tell) as session:
        reading = _Reading(session, context.progress)
        reading.read_shares(settings.get("shares"), settings.get("permissions", {}))
        found = read_smb_accounts(context, session, reading.idents)
    reading.apply_gates(settings.get("share-gates") or {}, found, user)
    tree = reading.tree.assemble()
    facts: Facts = {
        "entries": len(reading.tree.rows),
        "read_only": 0,
        "encrypted": int(session.is_encrypted),
        "shares": [share.to_facts() for share in reading.shares],
        **reading.pool,
    }
    settle(facts, found, context)
    return make_survey(context.system, "smb", tree, (found.accounts, found.groups, found.not_seen), facts, "nt")


_MOST_LOSSES = 5  # how often a server may go away before it has answered anything more


@dataclass(slots=True)
class _Item:
    """Something to be asked for: its path, its name below the share, and its row there (None: the share's root)."""

    path: Path
    below: str
    entry: Entry | None

    @property
    def is_folder(self) -> bool:
        """Tell whether rows are asked for too."""
        return self.entry is None or self.entry.is_folder


class _Reading:
    """What was read of a server so far."""

    def __init__(self, session: SteadySession, progress: Callable[[int], None]) -> None:
        self.session = session
        self.tree = RowTree()
        self.shares: list[Share] = []
        self.idents: set[str] = set()
        self.pool: Facts = {"pool_bytes": None, "pool_free_bytes": None}
        self._progress = progress
        self._access: dict[str, int] = {}
        self._bodies: dict[bytes, tuple[str, bytes]] = {}

    def read_shares(self, wanted: list[str] | None, permissions: Mapping[str, str]) -> None:
        """Read the shares that are wanted, or all that the server lists; `permissions` are those the plan tells."""
        self.tree.add(server_root())
        try:
            reported = {share.name: share for share in self.session.ask(read_shares)}
        except Refused as error:
            reported = {}
            if not wanted:
                raise SourceError(
                    f"the server does not list its shares: {error}",
                    self.session.terms.host,
                    "name them in the plan: shares: [Records, …]",
                ) from None
        for name in wanted or sorted(reported):
            path = (os.fsencode(name),)
            found = reported.get(name)
            body = _UNREAD
            if name in permissions:
                body = pack_body(descriptor_from_sddl(permissions[name]))
            elif found is None or found.permission is None:
                self.tree.miss(path, "the server does not tell this share's permission")
            else:
                body = self._body(found.permission, path)[1]
            self.shares.append(Share(name, b"/" + path[0], body, place=found.place if found else ""))
            self._read_share(name, path)

    def apply_gates(self, gates: Mapping[str, Mapping[str, Any]], found: Found, user: str) -> None:
        """Apply what the plan says of the shares' own switches, and note where it is silent and something is shut."""
        holders = holders_of(found.accounts, found.groups, NtModel.everyone_has)
        logins = {one.login.casefold(): one for one in holders}
        # Whoever is not known here has what everybody has who signs in.
        reader = logins.get(user.rpartition("\\")[2].casefold(), Holder(user, "", NtModel.everyone_has))
        for number, share in enumerate(self.shares):
            told = gates.get(share.name)
            access = self._access.get(share.name)
            if told is not None:
                where = f"share-gates: {share.name}"
                before = len(found.not_seen)
                enters = named_identifiers(told["users"], where, found) if "users" in told else None
                writers = named_identifiers(told.get("writers", ()), where, found)
                # Of a name that nobody has, whom the server takes for it nobody knows.
                unknown = len(found.not_seen) > before
                told_so = replace(share, read_only=bool(told.get("read-only", False)), are_names_unknown=unknown)
                self.shares[number] = replace(told_so, enters=enters, writers=writers)
            elif access is not None and not access & _WRITE_DATA and share.decide(reader).rights & Right.ADD:
                # Its permission lets that account write, and it may not: for whom else that holds nobody shows.
                self.shares[number] = replace(share, is_write_untold=True)
                message = "it does not let the account that reads it write, and does not tell whether others may"
                self.tree.miss((os.fsencode(share.name),), f"{message}: say it in the plan (share-gates)")

    def _read_share(self, name: str, path: Path) -> None:
        try:
            total, free, self._access[name] = self.session.on(
                name, lambda tree: (*tree.space(), tree.maximal_access())
            )
            # Shares of one volume tell the same figures; of several the largest stands for the system.
            if total > int(self.pool["pool_bytes"] or 0):
                self.pool = {"pool_bytes": total, "pool_free_bytes": free}
        except Refused as error:
            self.tree.add(Row(path, "folder", "", _UNREAD, state=SeenState.LIST_UNKNOWN))
            self.tree.miss(path, f"no connection to the share: {error}")
            return
        # Identities are those of a share's own volume: another share's are not to be taken for the same.
        self._read_below(name, _Item(path, "", None), len(self.shares))

    def _read_below(self, share: str, top: _Item, device: int) -> None:
        """Read a share: many items at once where that can be had, and else one after the other."""
        waiting, failed = [top], 0
        opened = self._open_wire(share)
        try:
            while waiting or (opened and opened[0].is_waiting):
                if opened is None:
                    waiting += self._take(share, waiting.pop(), Answer(), device)
                    continue
                wire, tree = opened
                if not wire.is_waiting and not wire.has_room:
                    # A server that lets hardly anything be under way is asked in turn.
                    wire.close()
                    opened = None
                    continue
                try:
                    while waiting and wire.has_room:
                        item = waiting.pop()
                        wire.ask(item, tree, item.below, is_folder=item.is_folder)
                    item, answer = wire.take()
                except Lost as error:
                    # The server may be back in a moment: what was under way is asked for once more.
                    waiting += wire.under_way()
                    wire.close()
                    failed += 1
                    if failed > _MOST_LOSSES:
                        raise self.session.away(error) from None
                    self.session.return_to(error)
                    opened = self._open_wire(share)
                    continue
                failed = 0
                waiting += self._take(share, item, answer, device)
        finally:
            if opened is not None:
                opened[0].close()

    def _open_wire(self, share: str) -> tuple[Wire[_Item], int] | None:
        try:
            return self.session.wire(share)
        except Refused:
            # A server may bear one connection of an account and no second.
            return None

    def _take(self, share: str, item: _Item, answer: Answer, device: int) -> list[_Item]:
        """Take what was said of an item, ask for what was not, and return what is in it."""
        path, entry = item.path, item.entry
        if answer.descriptor is None:
            owner, body, state = self._look(share, item.below, path)
        else:
            owner, body = self._body(answer.descriptor, path)
            state = SeenState.LIST_UNKNOWN if body == _UNREAD else SeenState.WHOLE
        if not item.is_folder:
            assert entry is not None
            self._add_file(path, owner, body, entry)
            return []
        inside, seen = answer.rows, SeenState.WHOLE
        if inside is None:
            inside, seen = self._list(share, item.below, path)
        else:
            self._progress(len(inside))
        state = state if state is SeenState.LIST_UNKNOWN else seen
        changed, identity = (entry.changed, entry.identity) if entry else (0, 0)
        self.tree.add(Row(path, "folder", owner, body, None, 0, 0, changed, identity, 1, state, device))
        above = f"{item.below}\\" if item.below else ""
        return [_Item((*path, os.fsencode(each.name)), above + each.name, each) for each in inside]

    def _add_file(self, path: Path, owner: str, body: bytes, entry: Entry) -> None:
        kind = "link" if entry.is_link else "file"
        figures = (entry.size, entry.occupied, entry.changed, entry.identity)
        self.tree.add(Row(path, kind, owner, body, None, *figures))

    def _list(self, share: str, below: str, path: Path) -> tuple[list[Entry], SeenState]:
        try:
            found = self.session.on(share, lambda tree: list(tree.listing(below)))
        except Refused as error:
            self.tree.miss(path, f"refused to be listed: {error}")
            return [], SeenState.NOT_OPENED
        self._progress(len(found))
        return found, SeenState.WHOLE

    def _look(self, share: str, below: str, path: Path) -> tuple[str, bytes, SeenState]:
        """Return an item's owner and list; what could not be read is noted."""
        try:
            owner, body = self._body(self.session.on(share, lambda tree: tree.descriptor(below)), path)
        except Refused as error:
            self.tree.miss(path, f"refused to show its list: {error}")
            return "", _UNREAD, SeenState.LIST_UNKNOWN
        return owner, body, SeenState.LIST_UNKNOWN if body == _UNREAD else SeenState.WHOLE

    def _body(self, data: bytes, path: Path) -> tuple[str, bytes]:
        # Most items have a descriptor that another one has too, to the byte.
        if data not in self._bodies:
            found = self._unpacked(data, path)
            if found[1] == _UNREAD:
                return found
            self._bodies[data] = found
        return self._bodies[data]

    def _unpacked(self, data: bytes, path: Path) -> tuple[str, bytes]:
        try:
            descriptor = unpack_descriptor(data)
        except FormatError as error:
            self.tree.miss(path, f"a descriptor that cannot be read: {error}")
            return "", _UNREAD
        self.idents.update(ace.sid for acl in (descriptor.dacl,) if acl for ace in acl.aces if ace.sid)
        if descriptor.owner:
            self.idents.add(descriptor.owner)
        return descriptor.owner, pack_body(descriptor)
