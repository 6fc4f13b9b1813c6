"""Who is in which group: what makes a holder of an account, as lists are put to it."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from types import MappingProxyType

from neatledger.core.lists.holders import Holder
from neatledger.core.lists.nesting import expand_members
from neatledger.core.survey.accounts import Account, Group

__all__ = ["holders_of"]


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
