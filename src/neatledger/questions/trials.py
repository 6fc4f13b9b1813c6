"""What people would have if they were in other groups: many trials of one person looked at together.

A trial is an account as it would be with some memberships more or fewer. It stands beside the others as a person of
its own, so that one pass over a system's lists judges all of them.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from itertools import combinations

import numpy as np

from neatledger.core.access.comparing import AccessChange, compare
from neatledger.core.access.differences import COMPARED
from neatledger.core.access.people_flags import UNKNOWN_FLAG, PeopleFlags, known_rights
from neatledger.core.access.row_pairs import rows_of_one_count
from neatledger.core.access.shares import Share
from neatledger.core.lists.rights import Right
from neatledger.core.lists.table import MODELS
from neatledger.core.people.membership import holders_of
from neatledger.core.people.principals import FoundAccounts, Principal
from neatledger.core.steps.members import MemberStep
from neatledger.core.survey.accounts import Group
from neatledger.core.tree.address import Address
from neatledger.questions.office import Office

__all__ = ["Judged", "Trial", "idents_that_count", "judge_trials", "memberships_of", "trials_of"]

BEYOND = COMPARED & ~Right.MANAGE
"""What nobody is to have beyond what is wanted; that an owner manages what is theirs is no matter of lists."""
_SIGN = "\0"
_SIDES = (False, True)


@dataclass(frozen=True, slots=True)
class Trial:
    """One person as they would be: the memberships that are other ones, and their principals then."""

    person: str
    toggles: tuple[MemberStep, ...]
    principals: tuple[Principal, ...]


@dataclass(frozen=True, slots=True)
class Judged:
    """What a trial has on the folder that is asked about, and what changes for it elsewhere, and there or below."""

    trial: Trial
    has: Right
    is_known: bool
    elsewhere: tuple[AccessChange, ...]
    within: tuple[AccessChange, ...]

    def is_as(self, wanted: Right) -> bool:
        """Tell whether it has just what is wanted on the folder."""
        return self.is_known and not wanted & ~self.has & COMPARED and not self.has & ~wanted & BEYOND


def idents_that_count(office: Office, system: str) -> frozenset[str] | None:
    """Return whom any list, share or owner of a system names; None where more than these may decide."""
    reader = office.readers[system]
    if office.systems.service(system) is not None or reader.facts.get("privileges"):
        return None
    matrix = office.systems.everyone(system, [], is_narrow=True).matrix
    found = set(reader.idents())
    numbers = np.unique(np.concatenate([matrix.folders["list"], matrix.classes["list"]])).tolist()
    bodies = [(reader.model, reader.list_body(number)) for number in numbers]
    for facts in reader.facts.get("shares") or ():
        share = Share.of_facts(facts)
        bodies.append(("nt", share.body))
        found |= {*(share.enters or ()), *share.writers}
    for model, body in bodies:
        for is_folder in (True, False):
            view = MODELS[model].parse(body).view(is_folder=is_folder)
            found |= {*view.groups, *view.either}
    return frozenset(found)


def memberships_of(system: str, principals: Sequence[Principal], groups: Sequence[Group]) -> list[MemberStep]:
    """Return every membership of somebody's usable accounts that could be made, or ended."""
    found = []
    for one in principals:
        login = one.account.login
        for group in groups:
            # Of whom nobody knows whether they are in it nothing is tried.
            if group.untold or group.ident == one.account.primary:
                continue
            is_in = login in group.members
            if is_in or (one.may_come_in and group.ident not in one.holder.idents):
                found.append(MemberStep(system, group.ident, group.name, login, False, not is_in))
    return found


def trials_of(
    person: str, principals: Sequence[Principal], found: FoundAccounts, toggles: Sequence[MemberStep], size: int
) -> Iterator[Trial]:
    """Yield one trial for every set of so many memberships that are other ones."""
    place = {(group.ident, group.name): number for number, group in enumerate(found.groups)}
    for some in combinations(toggles, size):
        groups = list(found.groups)
        for step in some:
            number = place[step.group, step.name]
            members = [one for one in groups[number].members if one != step.member]
            groups[number] = replace(groups[number], members=(*members, *((step.member,) if step.after else ())))
        holders = holders_of([one.account for one in principals], groups, found.everyone_has, found.privileges)
        then = (replace(one, holder=holder) for one, holder in zip(principals, holders, strict=True))
        yield Trial(person, some, tuple(then))


def judge_trials(before: Office, after: Office, address: Address, trials: Iterable[Trial]) -> list[Judged]:
    """Judge trials in an office as it would be, beside what the same people have in the office as it is."""
    trials = list(trials)
    if not trials:
        return []
    system = address.system
    old = {one.person: before.people_on(system).get(one.person, []) for one in trials}
    names = [f"{one.person}{_SIGN}{number}" for number, one in enumerate(trials)]
    then = [_as(name, one) for name, trial in zip(names, trials, strict=True) for one in trial.principals]
    was = [_as(name, one) for name, trial in zip(names, trials, strict=True) for one in old[trial.person]]
    everyone = after.systems.everyone(system, then, is_narrow=True)
    first = before.systems.everyone(system, was, is_narrow=True)
    matrix = everyone.matrix
    row = matrix.find_row(address.parts)
    assert row is not None, "only folders that were counted are asked about"
    flags = PeopleFlags(everyone, names).flags(np.array([row]))[0].tolist()
    changes: Mapping[tuple[str, bool], list[AccessChange]] = {(name, each): [] for name in names for each in _SIDES}
    pairs = rows_of_one_count(first.matrix.folders, matrix.folders)
    for change in compare(first, everyone, names, pairs):
        changes[change.person, Address(system, change.path).is_within(address)].append(change)
    return [
        Judged(trial, known_rights(flag), not flag & UNKNOWN_FLAG, *(tuple(changes[name, each]) for each in _SIDES))
        for name, trial, flag in zip(names, trials, flags, strict=True)
    ]


def _as(name: str, one: Principal) -> Principal:
    """Return a principal as somebody else's, under a login that nobody has."""
    number = name.partition(_SIGN)[2]
    return replace(one, person=name, account=replace(one.account, login=f"{one.account.login}{_SIGN}{number}"))
