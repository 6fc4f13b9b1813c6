"""People as steps on accounts and groups move them: who somebody is after some of these."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import replace

from neatledger.core.people.membership import holders_of
from neatledger.core.people.principals import FoundAccounts, Principal
from neatledger.core.steps.accounts import AccountStep, ServiceStep, WholeAccountStep
from neatledger.core.steps.contract import Step
from neatledger.core.steps.groups import GroupStep
from neatledger.core.steps.members import MemberStep
from neatledger.core.survey.accounts import Account, AccountState, Group

__all__ = ["MOVING", "StatesOf"]

MOVING = (MemberStep, GroupStep, AccountStep, ServiceStep, WholeAccountStep)
"""The steps that move people."""


class StatesOf:
    """Who people of one system are after some of the steps that move them.

    `found` are accounts and groups before all steps; the principals are those of before and of after all.
    """

    def __init__(self, found: FoundAccounts, before: Iterable[Principal], after: Iterable[Principal]) -> None:
        self._found = found
        self._principals: dict[str, dict[str, Principal]] = {}
        self._is_there = set()
        for principal in before:
            self._principals.setdefault(principal.person, {})[principal.account.login] = principal
            self._is_there.add(principal.account.login)
        for principal in after:
            self._principals.setdefault(principal.person, {}).setdefault(principal.account.login, principal)
        self._is_plain = not found.privileges and not any(one.nested or one.untold for one in found.groups)
        self._groups = {(one.ident, one.name): one for one in found.groups}
        self._outer: dict[str, set[str]] = {}
        self._inner: dict[str, set[str]] = {}
        for group in found.groups:
            for name in group.nested:
                self._put_inside(group.ident, name)

    def _put_inside(self, outer: str, inner: str) -> None:
        self._outer.setdefault(inner, set()).add(outer)
        self._inner.setdefault(outer, set()).add(inner)

    def know_of(self, steps: Iterable[Step]) -> None:
        """Take note of which groups steps put into which."""
        for step in steps:
            if isinstance(step, MemberStep) and step.is_group:
                self._put_inside(step.group, step.member)
                self._is_plain = False

    def idents_of(self, step: Step) -> frozenset[str] | None:
        """Return the groups that a step may put somebody into, or take them out of; None where it does more."""
        if not isinstance(step, MemberStep | GroupStep) or self._found.privileges:
            return None
        return frozenset(self._reached({step.group, step.name}, self._outer))

    @staticmethod
    def takes(step: Step) -> bool:
        """Tell whether a step takes something away, as far as it can be told from it alone."""
        match step:
            case MemberStep() | ServiceStep():
                return not step.after
            case GroupStep():
                return not step.made
            case AccountStep():
                return step.after is not AccountState.OPEN
            case WholeAccountStep():
                return step.after is None
            case _:
                return False

    def people_of(self, step: Step) -> frozenset[str]:
        """Return the people whom a step that moves somebody may concern, whatever else is made before it."""
        match step:
            case MemberStep() if step.is_group:
                idents = self._reached({step.member, step.member_name} - {""}, self._inner)
                idents |= {one.name for one in self._found.groups if one.ident in idents}
                logins = {
                    login for one in self._found.groups if {one.ident, one.name} & idents for login in one.members
                }
                return frozenset(
                    person
                    for person, principals in self._principals.items()
                    for principal in principals.values()
                    if principal.account.login in logins
                    or principal.account.primary in idents
                    or principal.holder.groups & idents
                    or principal.holder.maybe & idents
                )
            case MemberStep():
                return self._with_login(step.member)
            case GroupStep():
                return self._with_login(step.first) if step.first else frozenset()
            case AccountStep() | ServiceStep() | WholeAccountStep():
                return self._with_login(step.target)
            case _:
                return frozenset()

    def _with_login(self, login: str) -> frozenset[str]:
        return frozenset(person for person, principals in self._principals.items() if login in principals)

    @staticmethod
    def _reached(names: Iterable[str], edges: Mapping[str, set[str]]) -> set[str]:
        found, waiting = set(names), list(names)
        while waiting:
            for other in edges.get(waiting.pop(), ()):
                if other not in found:
                    found.add(other)
                    waiting.append(other)
        return found

    def principals(self, person: str, steps: Sequence[Step]) -> list[Principal]:
        """Return somebody's principals after some steps that move them, in the order of these."""
        known = self._principals.get(person, {})
        if self._is_plain and all(isinstance(step, MemberStep) for step in steps):
            return [self._in_groups(one, steps) for one in known.values()]
        accounts = {
            login: one.account if login in self._is_there else replace(one.account, state=AccountState.DISABLED)
            for login, one in known.items()
        }
        groups = dict(self._groups)
        for step in steps:
            _apply(step, accounts, groups)
        found = self._found
        holders = holders_of(accounts.values(), groups.values(), found.everyone_has, found.privileges)
        return [
            replace(one, account=accounts[login], holder=holder)
            for (login, one), holder in zip(known.items(), holders, strict=True)
        ]

    def _in_groups(self, principal: Principal, steps: Sequence[Step]) -> Principal:
        """Return a principal in other groups, where none lies in another and none gives a privilege."""
        account, holder = principal.account, principal.holder
        if account.login not in self._is_there:
            account = replace(account, state=AccountState.DISABLED)
        toggled = {
            (step.group, step.name): step.after
            for step in steps
            if isinstance(step, MemberStep) and step.member == account.login
        }
        if not toggled:
            return replace(principal, account=account)
        idents = {ident for ident, _ in toggled}
        kept = {
            one.ident
            for key, one in self._groups.items()
            if one.ident in idents and toggled.get(key, account.login in one.members)
        } | {key[0] for key, is_in in toggled.items() if is_in}
        groups = holder.groups - (idents - {account.primary, *self._found.everyone_has}) | kept
        return replace(principal, account=account, holder=replace(holder, groups=groups))


def _apply(step: Step, accounts: dict[str, Account], groups: dict[tuple[str, str], Group]) -> None:
    """Make a step in the accounts of one person and in all groups, whatever else was made before it."""
    match step:
        case MemberStep():
            key = step.group, step.name
            group = groups.get(key, Group(step.name, step.group, ()))
            names = {
                step.member,
                *(one.name for one in groups.values() if step.is_group and one.ident == step.member),
            }
            has = group.nested if step.is_group else group.members
            now = tuple(one for one in has if one not in names) + ((step.member,) if step.after else ())
            groups[key] = replace(group, nested=now) if step.is_group else replace(group, members=now)
        case GroupStep():
            if step.made:
                groups[step.group, step.name] = Group(step.name, step.group, (step.first,) if step.first else ())
            else:
                groups.pop((step.group, step.name), None)
        case AccountStep() if step.login in accounts:
            accounts[step.login] = replace(accounts[step.login], state=step.after)
        case ServiceStep() if step.login in accounts:
            accounts[step.login] = replace(accounts[step.login], may_use=step.after)
        case WholeAccountStep() if step.target in accounts:
            gone = replace(step.account, state=AccountState.DISABLED)
            accounts[step.target] = step.account if step.after is not None else gone
            for key, group in groups.items():
                members = tuple(one for one in group.members if one != step.target)
                more = (step.target,) if step.after is not None and group.ident in step.groups else ()
                if members + more != group.members:
                    groups[key] = replace(group, members=members + more)
        case _:
            return
