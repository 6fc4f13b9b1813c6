"""Accounts and groups as a system holds them, and who is in which group."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, fields
from enum import Enum
from types import MappingProxyType
from typing import Any

from neatledger.core.holders import Holder

__all__ = [
    "ADMINISTRATOR",
    "TOP",
    "USER",
    "Account",
    "AccountState",
    "Admission",
    "Group",
    "expand_members",
    "find_cycles",
    "holders_of",
]


class AccountState(Enum):
    """Whether the account can be used at all."""

    OPEN = "open"
    EXPIRED = "expired"
    DISABLED = "disabled"


USER, ADMINISTRATOR, TOP = "user", "administrator", "top"
"""Roles on a service; a top administrator has every role, whatever else is ticked."""


@dataclass(frozen=True, slots=True)
class Admission:
    """How an account came to a service, and as what; days are ISO 8601, "" (or None) where it does not tell.

    `roles` is None where the service knows no roles. `entitlements` are the licences that the account has there.
    `inviter` is the login of who invited a guest; `disable_on` and `remove_on` are the days set for that,
    and `ends` is the last day of the account itself.
    """

    roles: frozenset[str] | None = None
    entitlements: tuple[str, ...] = ()
    is_guest: bool = False
    inviter: str = ""
    invited: str = ""
    accepted: str = ""
    second_factor: bool | None = None
    password_set: str = ""
    disable_on: str = ""
    remove_on: str = ""
    ends: str = ""

    def to_facts(self) -> dict[str, Any]:
        """Return what the ledger keeps: only what is told."""
        found = {each.name: getattr(self, each.name) for each in fields(self)}
        found["roles"] = None if self.roles is None else sorted(self.roles)
        return {name: value for name, value in found.items() if value not in (None, "", (), False)} | (
            {} if self.second_factor is None else {"second_factor": self.second_factor}
        )

    @classmethod
    def of_facts(cls, facts: Mapping[str, Any]) -> Admission:
        """Return what the ledger kept."""
        found = dict(facts)
        if "roles" in found:
            found["roles"] = frozenset(found["roles"])
        if "entitlements" in found:
            found["entitlements"] = tuple(found["entitlements"])
        return cls(**found)


@dataclass(frozen=True, slots=True)
class Account:
    """One account: `ident` is the system's own identifier, `primary` that of its primary group.

    `may_use` tells whether the service is switched on for it, `is_entitled` whether it has the licence that the
    service asks for; `last_seen` is the day of its last sign-in (ISO 8601), empty where the system does not tell.
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
    is_entitled: bool = True
    admission: Admission = Admission()


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
