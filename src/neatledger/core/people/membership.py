"""Who is in which group: what makes a holder of an account, as lists are put to it."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from types import MappingProxyType

from neatledger.core.lists.holders import Holder
from neatledger.core.lists.nesting import expand_members
from neatledger.core.survey.accounts import Account, Group

__all__ = ["holders_of", "outer_groups"]


def holders_of(
    accounts: Iterable[Account],
    groups: Iterable[Group],
    everyone_has: frozenset[str] = frozenset(),
    privileges: Mapping[str, Iterable[str]] = MappingProxyType({}),
) -> list[Holder]:
    """Return one holder an account, in the accounts' order.

    Further arguments: identifiers that whoever signs in has, and privileges by the identifier that has them.

    The primary group counts without a member line; members are named by login, so two logins that share
    an identifier may be in different groups, as initgroups(3) has it. Where a group's members were not all told,
    everyone else may be in it, and in those that contain it.
    """
    groups, accounts = list(groups), list(accounts)
    members = _Members(groups, accounts, everyone_has)
    of_login: dict[str, set[str]] = {}
    for place, group in enumerate(groups):
        for login in members.of(place):
            of_login.setdefault(login, set()).add(group.ident)
    everyone_has = everyone_has | members.of_everyone
    found = []
    for account in accounts:
        has = everyone_has.union((account.primary,), of_login.get(account.login, ())) - {""}
        found.append(_holder(account, has, members.doubtful(account.login) - has, privileges))
    return found


_EVERYONE = "*"


class _Members:
    """Who is in which group by all that lies inside it, for certain or perhaps; groups are known by their place.

    Two lines of one name are two groups to initgroups(3), and two groups of a directory may have one name in
    different places: what lies inside a group is found by identifier, and by name only where that is no identifier.
    """

    def __init__(self, groups: Sequence[Group], accounts: Sequence[Account], everyone_has: frozenset[str]) -> None:
        self._groups = groups
        self._all: dict[str, set[str]] | None = None
        self._perhaps: dict[str, set[str]] = {}
        self.of_everyone: frozenset[str] = frozenset()
        if not any(group.nested or group.untold for group in groups):
            return
        by_ident: dict[str, list[str]] = {}
        by_name: dict[str, list[str]] = {}
        for place, group in enumerate(groups):
            by_ident.setdefault(group.ident, []).append(str(place))
            by_name.setdefault(group.name, []).append(str(place))
        inner = {
            str(place): [one for name in group.nested for one in (by_ident.get(name) or by_name.get(name) or ())]
            for place, group in enumerate(groups)
        }
        direct = {str(place): list(group.members) for place, group in enumerate(groups)}
        for account in accounts if any(inner.values()) else ():
            # Who has a group as their primary one is in the groups that contain it.
            for one in by_ident.get(account.primary, ()):
                direct[one].append(account.login)
        self._all = expand_members(direct, inner)
        open_to_all = {
            str(n): [_EVERYONE] for n, group in enumerate(groups) if everyone_has.intersection(group.nested)
        }
        self.of_everyone = frozenset(
            groups[int(place)].ident
            for place, found in expand_members({one: open_to_all.get(one, ()) for one in inner}, inner).items()
            if found
        )
        doubts: dict[str, set[str]] = {one: set() for one in inner}
        for number, group in enumerate(groups):
            for member in group.untold:
                # Where the member is a group, the doubt is only whether those in it count; else it may be anybody.
                known = by_ident.get(member)
                some = [{_EVERYONE}] if known is None else [self._all[one] for one in known]
                doubts[str(number)].update(*some)
        if any(doubts.values()):
            for one, found in expand_members(doubts, inner).items():
                for login in found:
                    self._perhaps.setdefault(login, set()).add(groups[int(one)].ident)

    def of(self, place: int) -> Iterable[str]:
        """Return the logins in a group."""
        return self._groups[place].members if self._all is None else self._all[str(place)]

    def doubtful(self, login: str) -> frozenset[str]:
        """Return the groups in which an account is perhaps, as far as is told."""
        return frozenset(self._perhaps.get(_EVERYONE, ())) | frozenset(self._perhaps.get(login, ()))


def _holder(
    account: Account, groups: frozenset[str], maybe: frozenset[str], privileges: Mapping[str, Iterable[str]]
) -> Holder:
    if not privileges:
        return Holder(account.login, account.ident, groups, maybe=maybe)
    has = frozenset(name for ident in (account.ident, *groups) for name in privileges.get(ident, ()))
    perhaps = frozenset(name for ident in maybe for name in privileges.get(ident, ()))
    return Holder(account.login, account.ident, groups, has, maybe, perhaps - has)


def outer_groups(groups: Sequence[Group], ident: str) -> set[str]:
    """Return the groups that a group lies in, however deep."""
    found: set[str] = set()
    waiting = [ident]
    while waiting:
        here = waiting.pop()
        for one in groups:
            outer = one.ident
            if here in one.nested and outer not in found:
                found.add(outer)
                waiting.append(outer)
    return found
