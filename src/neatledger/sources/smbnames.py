"""What an SMB server tells of itself by remote procedure calls: shares, users, groups, names of identifiers.

Source: MS-SRVS 3.1.4 (shares with their permissions), MS-SAMR 3.1.5 (users, groups, members), MS-LSAT 3.1.4
(names). Each may be refused to an ordinary account; then it is said, and the rest is still asked for.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass, field
from datetime import UTC, date, datetime
from typing import Any

from neatledger.core.lists.identifiers import BUILTIN, WELL_KNOWN
from neatledger.core.survey.accounts import Account, AccountState
from neatledger.formats.filetime import day_of_filetime
from neatledger.formats.ndr import NdrReader, NdrWriter
from neatledger.sources.rpc import Interface, RpcClient, calls
from neatledger.sources.smberrors import Refused
from neatledger.sources.smbsession import SmbSession

__all__ = [
    "Directory",
    "ShareInfo",
    "SidGroup",
    "SidName",
    "read_directory",
    "read_names",
    "read_share_names",
    "read_shares",
]

# Identifiers and versions: MS-SRVS 1.9, MS-SAMR 1.9, MS-LSAT 1.9.
_SRVS = Interface("4b324fc8-1670-01d3-1278-5a47bf6ee188", 3, "srvsvc")
_SAMR = Interface("12345778-1234-abcd-ef00-0123456789ac", 1, "samr")
_LSA = Interface("12345778-1234-abcd-ef00-0123456789ab", 0, "lsarpc")

_DISK = 0  # STYPE_DISKTREE without any mark, MS-SRVS 2.2.2.4
# USER_ACCOUNT_DISABLED, _AUTO_LOCKED, USER_DONT_EXPIRE_PASSWORD, USER_PASSWORD_EXPIRED, MS-SAMR 2.2.1.12
_DISABLED, _AUTO_LOCKED, _KEEPS_PASSWORD, _PASSWORD_EXPIRED = 0x1, 0x400, 0x200, 0x20000
_ALL_IT_MAY = 0x02000000  # MAXIMUM_ALLOWED, MS-DTYP 2.4.3
_LOOKUP_NAMES = 0x800  # POLICY_LOOKUP_NAMES, MS-LSAD 2.2.1.1.2
_ACCOUNT_INFORMATION = 5  # UserAccountInformation, MS-SAMR 2.2.6.28
_MORE, _SOME_NOT_MAPPED, _NONE_MAPPED = 0x105, 0x107, 0xC0000073  # MS-ERREF 2.3.1
_MORE_DATA = 234  # ERROR_MORE_DATA, MS-ERREF 2.2
_ACCESS_DENIED = (5, 0xC0000022)
_AT_ONCE = 500
_USER_KIND, _GROUP_KINDS = 1, (2, 4, 5)  # SID_NAME_USE, MS-LSAT 2.2.13
_NO_LIMIT, _ENOUGH = 0xFFFFFFFF, 0xFFFF  # bytes of one answer


@dataclass(frozen=True, slots=True)
class ShareInfo:
    """One share: its name, its permission as a self-relative descriptor (None: not told), its place there."""

    name: str
    permission: bytes | None
    place: str


@dataclass(frozen=True, slots=True)
class SidGroup:
    """A group with the identifiers of its members as the server tells them; None where it does not."""

    name: str
    ident: str
    members: tuple[str, ...] | None


@dataclass(frozen=True, slots=True)
class SidName:
    """What a server calls an identifier: its name, the domain it is of, and whether that is a user or a group."""

    name: str
    domain: str
    is_user: bool


@dataclass(slots=True)
class Directory:
    """Users and groups of a server, and what it would not tell; `domains` are the identifiers of those it keeps."""

    accounts: list[Account] = field(default_factory=list)
    groups: list[SidGroup] = field(default_factory=list)
    refused: list[str] = field(default_factory=list)
    domains: list[str] = field(default_factory=list)


def _status(answer: NdrReader, *fine: int) -> int:
    """Read the status that ends an answer; raises `Refused` unless it is one of those that are fine."""
    status = answer.u32()
    answer.end()
    if status and status not in fine:
        raise Refused("access denied" if status in _ACCESS_DENIED else f"status {status:#010x}")
    return status


# Shares --------------------------------------------------------------------------------------------


def read_shares(session: SmbSession) -> list[ShareInfo]:
    """Return the disk shares, hidden ones too, administrative ones left out; raises `Refused` or `Lost`."""
    with calls(session, _SRVS) as client:
        return [_share(client, name) for name, kind in _list_shares(client) if kind == _DISK]


def read_share_names(session: SmbSession) -> list[str]:
    """Return the names of all shares, and ask nothing more of them; raises `Refused` or `Lost`."""
    with calls(session, _SRVS) as client:
        return [name for name, _ in _list_shares(client)]


def _list_shares(client: RpcClient) -> list[tuple[str, int]]:
    """Return names and kinds: NetrShareEnum at level 1 (MS-SRVS 3.1.4.8)."""
    answer = client.call(15, NdrWriter().u32(0, 1, 1).pointer().u32(0, 0, _NO_LIMIT, 0))
    answer.u32()
    answer.u32()
    found: list[tuple[str, int]] = []
    if answer.points():
        answer.u32()
        if answer.points():
            heads = answer.array(12, lambda: (answer.points(), answer.u32(), answer.points()))
            for has_name, kind, has_remark in heads:
                found.append((answer.text() if has_name else "", kind))
                if has_remark:
                    answer.text()
    answer.u32()
    if answer.points():
        answer.u32()
    if _status(answer, _MORE_DATA):
        raise Refused("it lists only some of its shares")
    return found


def _share(client: RpcClient, name: str) -> ShareInfo:
    """Ask for a share's permission: NetrShareGetInfo at level 502 (MS-SRVS 3.1.4.10, 2.2.4.26)."""
    try:
        answer = client.call(16, NdrWriter().u32(0).text(name).u32(502))
        answer.u32()
        permission, path = None, ""
        if answer.points():
            has_name, _, has_remark = answer.points(), answer.u32(), answer.points()
            _, _, _, has_path, has_password, _ = [answer.u32() for _ in range(6)]
            has_permission = answer.points()
            for has in (has_name, has_remark):
                if has:
                    answer.text()
            path = answer.text() if has_path else ""
            if has_password:
                answer.text()
            permission = answer.blob() if has_permission else None
        _status(answer)
    except Refused:
        return ShareInfo(name, None, "")
    return ShareInfo(name, permission, path)


# Users and groups ----------------------------------------------------------------------------------


def read_directory(session: SmbSession) -> Directory:
    """Return the users and groups that the server keeps itself; what is refused is listed; raises `Lost`."""
    found = Directory()
    try:
        with calls(session, _SAMR) as client:
            server = _handle_of(client, 0, NdrWriter().u32(0, _ALL_IT_MAY))
            for _, name in _enumerate(client, 6, server):
                _read_domain(client, server, name, found)
    except Refused as error:
        found.refused.append(f"the server tells nothing of its users and groups: {error}")
    return found


def _handle_of(client: RpcClient, operation: int, words: NdrWriter) -> bytes:
    """Make a call that opens something; returns its handle (20 bytes, C706 appendix N)."""
    answer = client.call(operation, words)
    handle = answer.take(20)
    _status(answer)
    return handle


def _close(client: RpcClient, handle: bytes) -> None:
    _handle_of(client, 1, NdrWriter().raw(handle))


def _enumerate(client: RpcClient, operation: int, handle: bytes, *between: int) -> list[tuple[int, str]]:
    """Return numbers and names of all that a handle lists (MS-SAMR 3.1.5.2), asked for part by part."""
    found: list[tuple[int, str]] = []
    context, is_whole = 0, False
    while not is_whole:
        answer = client.call(operation, NdrWriter().raw(handle).u32(context, *between, _ENOUGH))
        before, context = context, answer.u32()
        found += _named_numbers(answer)
        answer.u32()
        is_whole = _status(answer, _MORE) != _MORE
        if not is_whole and context == before:
            raise Refused("it lists its users and groups without end")
    return found


def _named_numbers(answer: NdrReader) -> list[tuple[int, str]]:
    """Read numbers with names: SAMPR_ENUMERATION_BUFFER (MS-SAMR 2.2.3.10)."""
    if not answer.points():
        return []
    answer.u32()
    heads = answer.array(12, lambda: (answer.u32(), answer.string_head())) if answer.points() else []
    return [(number, answer.text() if has_name else "") for number, has_name in heads]


def _read_domain(client: RpcClient, server: bytes, name: str, found: Directory) -> None:
    """Add what one domain of the server holds; what it refuses of that is noted, and the rest still asked for."""
    answer = client.call(5, NdrWriter().raw(server).unicode_string(name))
    base = answer.sid() if answer.points() else ""
    _status(answer)
    domain = _handle_of(client, 7, NdrWriter().raw(server).u32(_ALL_IT_MAY).sid(base))
    found.domains.append(base)
    for rid, login in _listed(client, 13, domain, found, f"users of {name}", 0):
        found.accounts.append(_account(client, domain, base, login, rid, found))
    for rid, group in _listed(client, 11, domain, found, f"groups of {name}"):
        numbers = _members_of(client, domain, rid, group, found, _GROUPS)
        members = None if numbers is None else tuple(f"{base}-{number}" for number in numbers)
        found.groups.append(SidGroup(group, f"{base}-{rid}", members))
    aliases = _listed(client, 15, domain, found, f"local groups of {name}")
    for rid, group in aliases:
        found.groups.append(
            SidGroup(group, f"{base}-{rid}", _members_of(client, domain, rid, group, found, _ALIASES))
        )
    listed = {rid for rid, _ in aliases}
    for ident, group in WELL_KNOWN.items() if base == BUILTIN else ():
        # A server may keep built-in groups that it does not list, and tells their members if asked by number.
        rid = int(ident.removeprefix(f"{BUILTIN}-")) if ident.startswith(f"{BUILTIN}-") else 0
        if rid and rid not in listed and (members := _unlisted_members(client, domain, rid)) is not None:
            found.groups.append(SidGroup(group, ident, members))


@dataclass(frozen=True, slots=True)
class _Kind:
    """One of the two sorts of groups: the number of the call that opens one, and how its members are asked for."""

    opens: int
    ask: Callable[[RpcClient, bytes], Sequence[Any]]


def _listed(
    client: RpcClient, operation: int, domain: bytes, found: Directory, what: str, *between: int
) -> list[tuple[int, str]]:
    try:
        return _enumerate(client, operation, domain, *between)
    except Refused as error:
        found.refused.append(f"the {what}: {error}")
        return []


def _ask_members(client: RpcClient, domain: bytes, rid: int, kind: _Kind) -> tuple[Any, ...]:
    """Return a group's members; raises `Refused`."""
    handle = _handle_of(client, kind.opens, NdrWriter().raw(domain).u32(_ALL_IT_MAY, rid))
    members = tuple(kind.ask(client, handle))
    _close(client, handle)
    return members


def _members_of(
    client: RpcClient, domain: bytes, rid: int, name: str, found: Directory, kind: _Kind
) -> tuple[Any, ...] | None:
    """Return a group's members, None where the server refuses to tell them."""
    try:
        return _ask_members(client, domain, rid, kind)
    except Refused as error:
        found.refused.append(f"who is in the group {name}: {error}")
        return None


def _unlisted_members(client: RpcClient, domain: bytes, rid: int) -> tuple[str, ...] | None:
    """Return the members of a group that is not listed; None where there is no such group, or it tells none.

    Nobody in it may be what the server says of a group that it does not keep, or keeps to itself.
    """
    try:
        return _ask_members(client, domain, rid, _ALIASES) or None
    except Refused:
        return None


def _group_members(client: RpcClient, handle: bytes) -> list[int]:
    """Return the numbers of a group's members: SamrGetMembersInGroup (MS-SAMR 3.1.5.8.3)."""
    answer = client.call(25, NdrWriter().raw(handle))
    members: list[int] = []
    if answer.points():
        _, has_members, has_attributes = answer.u32(), answer.points(), answer.points()
        members = answer.array(4, answer.u32) if has_members else []
        if has_attributes:
            answer.array(4, answer.u32)
    _status(answer)
    return members


def _alias_members(client: RpcClient, handle: bytes) -> tuple[str, ...]:
    """Return the identifiers in a local group: SamrGetMembersInAlias (MS-SAMR 3.1.5.8.6)."""
    answer = client.call(33, NdrWriter().raw(handle))
    answer.u32()
    heads = answer.array(4, answer.points) if answer.points() else []
    members = tuple([answer.sid() for has_sid in heads if has_sid])
    _status(answer)
    return members


def _account(client: RpcClient, domain: bytes, base: str, login: str, rid: int, found: Directory) -> Account:
    try:
        handle = _handle_of(client, 34, NdrWriter().raw(domain).u32(_ALL_IT_MAY, rid))
        message = _user_information(client, handle)
        _close(client, handle)
    except Refused as error:
        found.refused.append(f"the account {login}: {error}")
        return Account(login, f"{base}-{rid}", "")
    state = _state(message)
    primary = f"{base}-{message.primary_group}"
    return Account(login, f"{base}-{rid}", primary, message.full_name, state=state, last_seen=message.last_logon)


@dataclass(frozen=True, slots=True)
class _UserInformation:
    full_name: str
    primary_group: int
    last_logon: date | None
    password_set: int
    expires: date | None
    control: int


def _user_information(client: RpcClient, handle: bytes) -> _UserInformation:
    """Ask for one user: SamrQueryInformationUser, SAMPR_USER_ACCOUNT_INFORMATION (MS-SAMR 2.2.6.10)."""
    answer = client.call(36, NdrWriter().raw(handle).u16(_ACCOUNT_INFORMATION))
    if not answer.points():
        _status(answer)
        raise Refused("no answer to what it is")
    answer.u16()
    has_text = [answer.string_head(), answer.string_head()]
    _, primary = answer.u32(), answer.u32()
    has_text += [answer.string_head() for _ in range(6)]
    last_logon, _ = answer.large(), answer.large()
    answer.u32()
    has_hours = answer.points()
    answer.u32()
    password_set, expires = answer.large(), answer.large()
    control = answer.u32()
    texts = [answer.text() if has else "" for has in has_text]
    if has_hours:
        # Only the hours that are allowed, a bit each; the array tells its room, its start and its length.
        _, _, size = answer.u32(), answer.u32(), answer.u32()
        answer.take(size)
    _status(answer)
    found = (texts[1], primary, day_of_filetime(last_logon), password_set, day_of_filetime(expires), control)
    return _UserInformation(*found)


def _state(message: _UserInformation) -> AccountState:
    """Return whether an account can be used now, as the server has it (MS-SAMR 3.1.5.14.7)."""
    control = message.control
    if control & _DISABLED:
        return AccountState.DISABLED
    if control & _AUTO_LOCKED:
        return AccountState.LOCKED
    if message.expires is not None and message.expires <= datetime.now(UTC).date():
        return AccountState.EXPIRED
    if not message.password_set and not control & _KEEPS_PASSWORD:
        return AccountState.MUST_CHANGE
    return AccountState.EXPIRED_PASSWORD if control & _PASSWORD_EXPIRED else AccountState.OPEN


_GROUPS = _Kind(19, _group_members)
_ALIASES = _Kind(27, _alias_members)


# Names of identifiers ------------------------------------------------------------------------------


def read_names(session: SmbSession, idents: Iterable[str]) -> dict[str, SidName]:
    """Return what the server calls some identifiers, those that it knows; raises `Refused` or `Lost`."""
    found: dict[str, SidName] = {}
    asked = sorted(idents)
    with calls(session, _LSA) as client:
        # LsarOpenPolicy2 (MS-LSAD 3.1.4.4.1): no name, and attributes without anything in them.
        policy = _handle_of(client, 44, NdrWriter().u32(0, 24, 0, 0, 0, 0, 0, _LOOKUP_NAMES))
        for start in range(0, len(asked), _AT_ONCE):
            part = asked[start : start + _AT_ONCE]
            for sid, (kind, name, domain) in zip(part, _look_up(client, policy, part), strict=False):
                if kind in (_USER_KIND, *_GROUP_KINDS):
                    found[sid] = SidName(name, domain, kind == _USER_KIND)
    return found


def _look_up(client: RpcClient, policy: bytes, sids: Sequence[str]) -> list[tuple[int, str, str]]:
    """Return kinds, names and domains in the order of what is asked: LsarLookupSids (MS-LSAT 3.1.4.11)."""
    domains: list[str] = []
    words = NdrWriter().raw(policy).u32(len(sids)).pointer().sids(sids)
    answer = client.call(15, words.u32(0, 0).u16(1).u32(0))
    if answer.points():
        answer.u32()
        has_domains = answer.points()
        answer.u32()
        if has_domains:
            heads = answer.array(12, lambda: (answer.string_head(), answer.points()))
            for has_name, has_sid in heads:
                domains.append(answer.text() if has_name else "")
                if has_sid:
                    answer.sid()
    answer.u32()
    names: list[tuple[int, str, str]] = []
    if answer.points():
        translated = answer.array(16, lambda: (answer.u16(), answer.string_head(), answer.u32()))
        names = [
            (kind, answer.text() if has_name else "", domains[place] if place < len(domains) else "")
            for kind, has_name, place in translated
        ]
    answer.u32()
    _status(answer, _SOME_NOT_MAPPED, _NONE_MAPPED)
    if names and len(names) != len(sids):
        raise Refused(f"{len(names)} names for {len(sids)} identifiers")
    return names
