"""Whom the plan names on a folder, and who is in which group, as a system knows them."""

from __future__ import annotations

from collections.abc import Iterable, Mapping

from neatledger.core.lists.rights import LEVEL_RIGHTS, Right
from neatledger.core.people.principals import Principal
from neatledger.core.plan.plan import CLASSES, Plan
from neatledger.core.steps.whom import Sort, Whom
from neatledger.core.tree.address import Address
from neatledger.ledger.imagined import ImaginedReader

__all__ = ["grants_on", "members_of_groups"]


def members_of_groups(people: Iterable[Principal], names: Mapping[str, str]) -> dict[str, tuple[str, frozenset[str]]]:
    """Return the groups by identifier with their names and the logins of all in them, for those that hold anybody."""
    found: dict[str, set[str]] = {}
    for one in people:
        for ident in one.holder.groups:
            if ident in names:
                found.setdefault(ident, set()).add(one.account.login)
    return {ident: (names[ident], frozenset(logins)) for ident, logins in found.items()}


def grants_on(plan: Plan, system: str, address: Address, state: ImaginedReader) -> list[tuple[Whom, Right]]:
    """Return the plan's holders on a folder as a system knows them; a class of people but everyone is in no list."""
    groups = {one.name: one for one in state.groups}
    logins = {one.login: one for one in state.accounts}
    found: list[tuple[Whom, Right]] = []
    for _, holder, level in plan.grants_at(address):
        rights = LEVEL_RIGHTS[level]
        if holder in CLASSES:
            if CLASSES[holder] is None:
                found.append((Whom(Sort.EVERYONE, "", holder), rights))
        elif holder in plan.groups:
            group = groups.get(plan.groups[holder].names.get(system, holder))
            if group is not None:
                found.append((Whom(Sort.GROUP, group.ident, group.name), rights))
        elif holder in plan.people and plan.is_here(holder):
            for login in plan.people[holder].accounts.get(system, ()):
                if login in logins:
                    found.append((Whom(Sort.USER, logins[login].ident, login), rights))
    return found
