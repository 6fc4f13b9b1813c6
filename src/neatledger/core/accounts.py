"""Accounts and groups as a system holds them, and who is in which group."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from enum import Enum
from types import MappingProxyType

from neatledger.core.holders import Holder

__all__ = ["Account", "AccountState", "Group", "expand_members", "find_cycles", "holders_of"]


class AccountState(Enum):
    """Whether the account can be used at all."""

    OPEN = "open"
    EXPIRED = "expired"
    DISABLED = "disabled"


@dataclass(frozen=True, slots=True)
class Account:
    """One account: `ident` is the system's own identifier, `primary` that of its primary group.

    `may_use` tells whether the service is switched on for it; `last_seen` is the day of its last sign-in
    (ISO 8601), empty where the system does not tell.
    """

    login: str
    ident: str
    primary: str
    name: str = ""
    email: str = ""
    home: str = ""
    shell: str = ""
    state: AccountState = AccountState.OPEN
    note: str = ""
    may_use: bool = True
    last_seen: str = ""


@dataclass(frozen=True, slots=True)
class Group:
    """One group: `members` are logins, `nested` the names of groups inside it."""

    name: str
    ident: str
    members: tuple[str, ...] = ()
    nested: tuple[str, ...] = ()


def expand_members(members: Mapping[str, Iterable[str]], nested: Mapping[str, Iterable[str]]) -> dict[str, set[str]]:
    """Return every group's members, those of groups inside it included; cycles do no harm.

    Arguments: group → its direct members; group → the groups directly inside it.
    """
    result: dict[str, set[str]] = {}
    for start in members:
        seen = {start}
        waiting = [start]
        found: set[str] = set()
        while waiting:
            group = waiting.pop()
            found.update(members.get(group, ()))
            for inner in nested.get(group, ()):
                if inner not in seen:
                    seen.add(inner)
                    waiting.append(inner)
        result[start] = found
    return result


def find_cycles(nested: Mapping[str, Iterable[str]]) -> list[tuple[str, ...]]:
    """Return the rings of groups that contain themselves, each once, beginning with its least name."""
    rings: set[tuple[str, ...]] = set()
    for start in nested:
        trail: list[tuple[str, tuple[str, ...]]] = [(start, (start,))]
        seen: set[str] = set()
        while trail:
            group, path = trail.pop()
            for inner in nested.get(group, ()):
                if inner == start:
                    least = path.index(min(path))
                    rings.add(path[least:] + path[:least])
                elif inner not in seen:
                    seen.add(inner)
                    trail.append((inner, (*path, inner)))
    return sorted(rings)


def holders_of(
    accounts: Iterable[Account],
    groups: Iterable[Group],
    everyone_has: frozenset[str] = frozenset(),
    privileges: Mapping[str, Iterable[str]] = MappingProxyType({}),
) -> list[Holder]:
    """Return one holder an account, in the accounts' order.

    Further arguments: identifiers that whoever signs in has, and privileges by the identifier that has them.

    The primary group counts without a member line; members are named by login, so two logins that share
    an identifier may be in different groups, as initgroups(3) has it.
    """
    groups, accounts = list(groups), list(accounts)
    direct: dict[str, set[str]] = {}
    inner: dict[str, set[str]] = {}
    for group in groups:
        direct.setdefault(group.name, set()).update(group.members)
        inner.setdefault(group.name, set()).update(group.nested)
    if any(inner.values()):
        # Who has a group as their primary one is in the groups that contain it.
        named = {group.ident: group.name for group in groups}
        for account in accounts:
            if account.primary in named:
                direct[named[account.primary]].add(account.login)
    members = expand_members(direct, inner)
    of_login: dict[str, set[str]] = {}
    for group in groups:
        # Two lines of one name are two groups to initgroups(3); only nesting goes by name.
        for login in members[group.name] if group.nested else group.members:
            of_login.setdefault(login, set()).add(group.ident)
    return [
        _holder(account, everyone_has.union((account.primary,), of_login.get(account.login, ())), privileges)
        for account in accounts
    ]


def _holder(account: Account, groups: frozenset[str], privileges: Mapping[str, Iterable[str]]) -> Holder:
    has = {name for ident in (account.ident, *groups) for name in privileges.get(ident, ())} if privileges else ()
    return Holder(account.login, account.ident, groups - {""}, frozenset(has))
