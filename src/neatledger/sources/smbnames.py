"""What an SMB server tells of itself by remote procedure calls: shares, users, groups, names of identifiers.

Source: MS-SRVS 3.1.4 (shares with their permissions), MS-SAMR 3.1.5 (users, groups, members), MS-LSAT 3.1.4
(names). Each may be refused to an ordinary account; then it is said, and the rest is still asked for.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass, field
from typing import Any

from impacket.dcerpc.v5 import lsad, lsat, samr, srvs
from impacket.dcerpc.v5.dtypes import NULL
from impacket.dcerpc.v5.rpcrt import DCERPC_v5, DCERPCException

from neatledger.core.lists.identifiers import WELL_KNOWN
from neatledger.core.survey.accounts import Account, AccountState, Group
from neatledger.formats.filetime import day_of_filetime
from neatledger.sources.smbsession import Refused, SmbSession

__all__ = ["Directory", "ShareInfo", "read_directory", "read_names", "read_shares"]

_DISK = 0  # STYPE_DISKTREE without any mark, MS-SRVS 2.2.2.4
_DISABLED = 0x1  # USER_ACCOUNT_DISABLED, MS-SAMR 2.2.1.12
_MORE, _SOME_NOT_MAPPED = 0x105, 0x107
_AT_ONCE = 500
_USER_KIND, _GROUP_KINDS = 1, (2, 4, 5)  # SID_NAME_USE, MS-LSAT 2.2.13


@dataclass(frozen=True, slots=True)
class ShareInfo:
    """One share: its name, its permission as a self-relative descriptor (None: not told), its place there."""

    name: str
    permission: bytes | None
    place: str


@dataclass(slots=True)
class Directory:
    """Users and groups of a server, and what it would not tell."""

    accounts: list[Account] = field(default_factory=list)
    groups: list[Group] = field(default_factory=list)
    refused: list[str] = field(default_factory=list)


@contextmanager
def _calls(session: SmbSession, pipe: str, interface: bytes) -> Iterator[Any]:
    transport = session.pipe(pipe)
    try:
        calls = DCERPC_v5(transport)
        calls.bind(interface)
        yield calls
    except DCERPCException as error:
        raise Refused(str(error).splitlines()[0]) from None
    finally:
        transport.close()


def _text(value: Any) -> str:
    return str(value).rstrip("\0")


def read_shares(session: SmbSession) -> list[ShareInfo]:
    """Return the disk shares, hidden ones too, administrative ones left out; raises `Refused` or `Lost`."""
    with _calls(session, "srvsvc", srvs.MSRPC_UUID_SRVS) as calls:
        answer = srvs.hNetrShareEnum(calls, 1)
        names = [
            _text(one["shi1_netname"])
            for one in answer["InfoStruct"]["ShareInfo"]["Level1"]["Buffer"]
            if one["shi1_type"] == _DISK
        ]
        return [_share(calls, name) for name in names]


def _share(calls: Any, name: str) -> ShareInfo:
    try:
        message = srvs.hNetrShareGetInfo(calls, f"{name}\0", 502)["InfoStruct"]["ShareInfo502"]
    except DCERPCException:
        return ShareInfo(name, None, "")
    found = message["shi502_security_descriptor"]
    permission = b"".join(bytes([one]) if isinstance(one, int) else one for one in found) if found else None
    return ShareInfo(name, permission, _text(message["shi502_path"]))


def _day(ticks: Any) -> str:
    number = (ticks["HighPart"] << 32) + ticks["LowPart"] if not isinstance(ticks, int) else ticks
    day = day_of_filetime(number)
    return day.isoformat() if day else ""


def read_directory(session: SmbSession) -> Directory:
    """Return the users and groups that the server keeps itself; what is refused is listed."""
    found = Directory()
    try:
        with _calls(session, "samr", samr.MSRPC_UUID_SAMR) as calls:
            server = samr.hSamrConnect(calls)["ServerHandle"]
            domains = samr.hSamrEnumerateDomainsInSamServer(calls, server)["Buffer"]["Buffer"]
            for one in domains:
                _read_domain(calls, server, _text(one["Name"]), found)
    except (Refused, DCERPCException) as error:
        found.refused.append(f"the server tells nothing of its users and groups: {str(error).splitlines()[0]}")
    _name_members(found)
    return found


def _each(ask: Callable[[int], Any]) -> Iterator[tuple[str, int]]:
    context = 0
    while True:
        try:
            answer = ask(context)
        except DCERPCException as error:
            answer = error.get_packet()
            if error.get_error_code() != _MORE or answer is None:
                raise
        for one in answer["Buffer"]["Buffer"]:
            yield _text(one["Name"]), int(one["RelativeId"])
        if answer["ErrorCode"] != _MORE:
            return
        context = answer["EnumerationContext"]


def _read_domain(calls: Any, server: Any, name: str, found: Directory) -> None:
    sid = samr.hSamrLookupDomainInSamServer(calls, server, name)["DomainId"]
    base = sid.formatCanonical()
    domain = samr.hSamrOpenDomain(calls, server, domainId=sid)["DomainHandle"]
    for login, rid in _each(lambda at: samr.hSamrEnumerateUsersInDomain(calls, domain, enumerationContext=at)):
        found.accounts.append(_account(calls, domain, base, login, rid, found))
    for group, rid in _each(lambda at: samr.hSamrEnumerateGroupsInDomain(calls, domain, at)):
        handle = samr.hSamrOpenGroup(calls, domain, groupId=rid)["GroupHandle"]
        members = samr.hSamrGetMembersInGroup(calls, handle)["Members"]["Members"]
        idents = tuple(f"{base}-{int(one['Data'])}" for one in members)
        found.groups.append(Group(group, f"{base}-{rid}", idents))
        samr.hSamrCloseHandle(calls, handle)
    for group, rid in _each(lambda at: samr.hSamrEnumerateAliasesInDomain(calls, domain, at)):
        handle = samr.hSamrOpenAlias(calls, domain, aliasId=rid)["AliasHandle"]
        members = samr.hSamrGetMembersInAlias(calls, handle)["Members"]["Sids"]
        idents = tuple(one["SidPointer"].formatCanonical() for one in members) if members else ()
        found.groups.append(Group(group, f"{base}-{rid}", idents))
        samr.hSamrCloseHandle(calls, handle)


def _account(calls: Any, domain: Any, base: str, login: str, rid: int, found: Directory) -> Account:
    try:
        handle = samr.hSamrOpenUser(calls, domain, userId=rid)["UserHandle"]
        kind = samr.USER_INFORMATION_CLASS.UserAccountInformation
        message = samr.hSamrQueryInformationUser(calls, handle, kind)["Buffer"]["Account"]
        samr.hSamrCloseHandle(calls, handle)
    except DCERPCException as error:
        found.refused.append(f"the account {login}: {str(error).splitlines()[0]}")
        return Account(login, f"{base}-{rid}", "")
    state = AccountState.DISABLED if message["UserAccountControl"] & _DISABLED else AccountState.OPEN
    primary = f"{base}-{message['PrimaryGroupId']}"
    name, seen = _text(message["FullName"]), _day(message["LastLogon"])
    return Account(login, f"{base}-{rid}", primary, name, state=state, last_seen=seen)


def _name_members(found: Directory) -> None:
    """Replace members' identifiers by logins, and put groups inside groups apart."""
    logins = {account.ident: account.login for account in found.accounts}
    groups = {group.ident: group.name for group in found.groups}
    found.groups = [
        Group(
            group.name,
            group.ident,
            tuple(logins[one] for one in group.members if one in logins),
            tuple(groups[one] for one in group.members if one in groups),
        )
        for group in found.groups
    ]


def read_names(session: SmbSession, idents: Iterable[str]) -> tuple[list[Account], list[Group]]:
    """Return what the server calls some identifiers, as accounts and groups without members; raises `Refused`."""
    accounts: list[Account] = []
    groups: list[Group] = []
    asked = sorted(set(idents) - WELL_KNOWN.keys())
    with _calls(session, "lsarpc", lsat.MSRPC_UUID_LSAT) as calls:
        policy = lsad.hLsarOpenPolicy2(calls, lsat.POLICY_LOOKUP_NAMES)["PolicyHandle"]
        for start in range(0, len(asked), _AT_ONCE):
            part = asked[start : start + _AT_ONCE]
            for sid, (kind, name) in zip(part, _look_up(calls, policy, part), strict=False):
                if kind == _USER_KIND:
                    accounts.append(Account(name, sid, ""))
                elif kind in _GROUP_KINDS:
                    groups.append(Group(name, sid))
    return accounts, groups


def _look_up(calls: Any, policy: Any, sids: Sequence[str]) -> list[tuple[int, str]]:
    try:
        answer = lsat.hLsarLookupSids(calls, policy, sids)
    except DCERPCException as error:
        answer = error.get_packet()
        if error.get_error_code() != _SOME_NOT_MAPPED or answer is None:
            return []
    names = answer["TranslatedNames"]["Names"]
    return [] if names is NULL else [(int(one["Use"]), _text(one["Name"])) for one in names]
