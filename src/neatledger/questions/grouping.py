"""Groups that would do: the fewest that give what people have, tidying, and the steps that lead there."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field

from neatledger.core.drafting.folders import rights_that_differ
from neatledger.core.drafting.grants import level_said
from neatledger.core.grouping.cover import Cover, fewest_groups
from neatledger.core.grouping.tidy import Oddity, find_oddities
from neatledger.core.lists.rights import Level, Right
from neatledger.core.people.membership import outer_groups
from neatledger.core.plan.plan import Kind
from neatledger.core.steps.contract import Step
from neatledger.core.steps.groups import GroupStep
from neatledger.core.steps.members import MemberStep
from neatledger.core.steps.regrouping import group_in_place_of_group, group_in_place_of_people
from neatledger.core.steps.whom import Sort, Whom
from neatledger.core.survey.accounts import Group
from neatledger.core.tree.address import Address
from neatledger.errors import StepError
from neatledger.ledger.imagined import ImaginedReader
from neatledger.questions.draft import homes_like
from neatledger.questions.imagined import imagined_office
from neatledger.questions.office import Office
from neatledger.questions.suppose_access import MadeChange, effects_of
from neatledger.questions.trials import idents_that_count

__all__ = ["Grouping", "Suggestion", "ask", "steps_of"]

_FIRST_FREE, _LAST_FREE = 1000, 60_000
_MOST_SHOWN = 100


@dataclass(frozen=True, slots=True)
class Suggestion:
    """One thing to do about groups of a system.

    `kind` says what; `groups` are those there that it is about, `people` who would be in it, and `grants` what it
    gives where; `gains` is who gets what that they have not.
    """

    system: str
    kind: str
    groups: tuple[str, ...]
    people: tuple[str, ...]
    text: str
    grants: Mapping[Address, Level] = field(default_factory=dict)
    gains: Mapping[str, tuple[Address, ...]] = field(default_factory=dict)


@dataclass
class Grouping:
    """Suggestions, and of every system how many groups grant today, how many would do, and how sure that is.

    `left_out` are groups that would do and are not among the suggestions: a person can look at so many only.
    """

    suggestions: list[Suggestion] = field(default_factory=list)
    covers: dict[str, tuple[int, int, Cover]] = field(default_factory=dict)
    left_out: int = 0


def ask(office: Office, systems: Iterable[str] = (), may_gain: int = 0) -> Grouping:
    """Return suggestions for some systems, or all; `may_gain` people at most may get more than they have."""
    found = Grouping()
    for system in list(systems) or office.readers:
        office.reader(system)
        _System(office, system).suggest(found, may_gain)
    return found


class _System:
    """One system: its people, groups by name with who is in them, and what they have."""

    def __init__(self, office: Office, system: str) -> None:
        self.office, self.system = office, system
        self.rights: Mapping[Address, Sequence[Right]] = {}
        self.reader = office.readers[system]
        principals = office.systems.holders[system]
        self.logins = {account.login for account in self.reader.accounts}
        self.everyone = office.systems.everyone(system, principals, is_narrow=True)
        ordinary = self.everyone.ordinary(enumerate(self.everyone.matrix.principals))
        self.people = {
            person: numbers for person, numbers in ordinary.items() if any(self._counts(number) for number in numbers)
        }
        self._place = {person: place for place, person in enumerate(self.people)}
        inside: dict[str, set[str]] = {}
        for person, numbers in self.people.items():
            for number in numbers:
                for ident in self.everyone.matrix.principals[number].holder.groups:
                    inside.setdefault(ident, set()).add(person)
        self.members = {
            group.name: frozenset(inside.get(group.ident, ()))
            for group in self.reader.groups
            if not (group.name in self.logins and len(inside.get(group.ident, ())) < 2) and group.ident not in _KNOWN
        }

    def _counts(self, number: int) -> bool:
        one = self.everyone.matrix.principals[number]
        # Whoever holds a link is nobody who could be put into a group.
        return one.kind is not Kind.SERVICE and one.may_come_in and one.account.login in self.logins

    def suggest(self, found: Grouping, may_gain: int) -> None:
        granting = self._granting()
        holders, by_name = self._holders(), self._by_name()
        cover = fewest_groups(list(self.people), holders, may_gain, list(self.members.values()))
        today = sum(name in granting and bool(self.members[name]) for name in self.members)
        found.covers[self.system] = today, by_name, cover
        is_worse = not cover.is_fewest and len(cover.groups) > today + by_name
        ranked = sorted(
            () if is_worse else cover.groups,
            key=lambda one: (len(one.people) < 2, -len(one.people), sorted(one.people)),
        )
        found.left_out += max(0, len(ranked) - _MOST_SHOWN)
        for group in ranked[:_MOST_SHOWN]:
            places = sorted({address for address, _ in group.gives}, key=lambda one: one.parts)
            # What everybody has there is given by no group, and counts for the level all the same.
            gives = {one: self._least(one, group.people - cover.gains.keys() or group.people) for one in places}
            found.suggestions.append(self._would_do(group.people, gives, cover))
        for one in find_oddities(self.members, granting):
            found.suggestions.append(self._of_oddity(one))

    def _least(self, address: Address, people: Iterable[str]) -> Right:
        """Return what all of some people have on a folder."""
        found = ~Right.NONE
        for person in people:
            found &= self.rights[address][self._place[person]]
        return found

    def _holders(self) -> dict[tuple[Address, Right], int]:
        """Return who has what where rights differ, as bits of people; what all have is no matter of a group."""
        planned = self.office.plan.systems.get(self.system)
        homes = list(planned.homes) if planned and planned.homes else homes_like(self.everyone, sorted(self.logins))
        aside = [Address(self.system, path).parts for path in homes]
        found: dict[tuple[Address, Right], int] = {}
        if not self.people:
            return found
        self.rights = rights_that_differ(self.system, self.everyone, self.people, aside)
        everybody = (1 << len(self.people)) - 1
        known: dict[int, tuple[tuple[Right, int], ...]] = {}
        for address, some in self.rights.items():
            # Folders alike share one vector.
            if id(some) not in known:
                bits = (
                    (right, sum(1 << place for place, rights in enumerate(some) if right in rights))
                    for right in (Right.LIST, Right.READ, Right.ADD)
                )
                known[id(some)] = tuple((right, mine) for right, mine in bits if 0 < mine < everybody)
            for right, mine in known[id(some)]:
                found[address, right] = mine
        return found

    def _granting(self) -> set[str]:
        """Return the groups that any list names, or that lie in one that does; all where more may decide."""
        counting = idents_that_count(self.office, self.system)
        groups = self.reader.groups
        if counting is None:
            service = self.office.systems.service(self.system)
            if service is None or self.reader.facts.get("privileges"):
                return {group.name for group in groups}
            counting = frozenset(
                group.ident
                for group in groups
                for team in service.shared.teams
                for member in team.members
                if member.is_group and member.holder in (group.name, group.ident)
            ) | frozenset(self.reader.idents())
        return {group.name for group in groups if {group.ident, *outer_groups(groups, group.ident)} & counting}

    def _by_name(self) -> int:
        """Return how many people lists of folders name, list by list, but for what is theirs."""
        matrix, owners = self.everyone.matrix, self.reader.idents()
        idents = {matrix.principals[number].account.ident for numbers in self.people.values() for number in numbers}
        found = set()
        for number, owner in set(zip(matrix.folders["list"].tolist(), matrix.folders["owner"].tolist(), strict=True)):
            view = matrix.view(number, is_folder=True)
            named = idents & {*view.users, *view.either} - {owners[owner]}
            found |= {(number, ident) for ident in named}
        return len(found)

    def _of_oddity(self, one: Oddity) -> Suggestion:
        names, people = one.groups, tuple(sorted(one.people))
        match one.kind:
            case "twins":
                text = f"{names[0]} and {names[1]} have the same people: one of them would do"
            case "nearly the same":
                parts = [
                    f"{', '.join(sorted(some))} only in {name}"
                    for name, some in zip(names, one.only, strict=True)
                    if some
                ]
                text = f"{names[0]} and {names[1]} differ in little: {'; '.join(parts)}. Meant?"
            case "grants nothing":
                text = f"no list names {names[0]}, nor a group that it is in"
            case _:
                text = f"only {people[0]} is in {names[0]}"
        return Suggestion(self.system, one.kind, names, people, text)

    def _would_do(self, people: frozenset[str], gives: Mapping[Address, Right], cover: Cover) -> Suggestion:
        grants = {address: level_said(rights) or Level.MIXED for address, rights in gives.items()}
        same = next((name for name, some in self.members.items() if some == people), "")
        near = same or max(
            self.members,
            key=lambda name: (_likeness(self.members[name], people), name),
            default="",
        )
        names = ", ".join(sorted(people))
        if len(people) < 2:
            return Suggestion(self.system, "stays by name", (), tuple(people), names, grants)
        if same:
            text = f"{same} as it is"
        elif near and _likeness(self.members[near], people) >= 0.5:
            more, less = sorted(people - self.members[near]), sorted(self.members[near] - people)
            parts = ([f"with {', '.join(more)}"] if more else []) + ([f"without {', '.join(less)}"] if less else [])
            text = f"like {near}, {' and '.join(parts)}"
        else:
            text = f"a new group: {names}"
        gains = {
            person: tuple(sorted({address for address, _ in some if address in gives}, key=str))
            for person, some in cover.gains.items()
            if person in people
        }
        return Suggestion(
            self.system, "would do", (same,) if same else (), tuple(sorted(people)), text, grants, gains
        )


_KNOWN = frozenset({"S-1-5-11", "S-1-1-0"})


def _likeness(one: frozenset[str], other: frozenset[str]) -> float:
    return len(one & other) / max(1, len(one | other))


# Steps -------------------------------------------------------------------------------------------------


def steps_of(office: Office, one: Suggestion, name: str = "") -> tuple[list[Step], list[MadeChange]]:
    """Return the steps that make a suggestion true, and who gains or loses what by them.

    A group that is not there yet is called `name`. Raises `StepError` where no steps do it.
    """
    state = ImaginedReader(office.reader(one.system))
    groups = {group.name: group for group in state.groups}
    steps: list[Step] = []
    match one.kind:
        case "twins":
            kept, gone = (groups[each] for each in one.groups)
            old, new = (Whom(Sort.GROUP, each.ident, each.name) for each in (gone, kept))
            steps += group_in_place_of_group(state, state.model, old, new)
        case "would do":
            target = groups.get(one.groups[0]) if one.groups else None
            if target is None:
                target, making = _made(office, one, state, name)
                steps += making
            whom = Whom(Sort.GROUP, target.ident, target.name)
            mine = office.people_on(one.system)
            idents = [each.account.ident for person in one.people for each in mine[person] if each.may_come_in]
            steps += group_in_place_of_people(state, state.model, idents, whom)
            if not any(not isinstance(step, MemberStep | GroupStep) for step in steps):
                raise StepError(
                    "no list names just these people alike", one.system, "give the group its level: suppose --grant"
                )
        case "stays by name":
            raise StepError("it is as it should be: nothing is to be done", one.system)
        case "grants nothing" if groups[one.groups[0]].ident.isdecimal():
            steps += _removed(one.system, groups[one.groups[0]])
        case "grants nothing" | "one person":
            raise StepError(
                "whether it is needed a person must say", one.groups[0], "suppose --out-of takes people out"
            )
        case _:
            raise StepError("who is meant to be in both a person must say", ", ".join(one.groups), "suppose --into")
    return steps, effects_of(office, imagined_office(office, steps))


def _removed(system: str, group: Group) -> list[Step]:
    """Return the steps that take a group away with its members; where it is somebody's primary one, none fit."""
    members = [MemberStep(system, group.ident, group.name, login, False, False) for login in group.members]
    return [*members, GroupStep(system, group.ident, group.name, False)]


def _made(office: Office, one: Suggestion, state: ImaginedReader, name: str) -> tuple[Group, list[Step]]:
    """Return a new group of some people, and the steps that make it; raises `StepError` where none can."""
    taken = {group.ident for group in state.groups}
    if not all(ident.isdecimal() for ident in taken):
        raise StepError("there a new group gets its identifier when it is made", one.system, "make it, and gather")
    if not name:
        raise StepError("a new group needs a name", one.system, "--called NAME")
    if name in {group.name for group in state.groups}:
        raise StepError("there is a group of this name", f"{one.system}:{name}", "--called: another name")
    free = next(str(number) for number in range(_FIRST_FREE, _LAST_FREE) if str(number) not in taken)
    steps: list[Step] = [GroupStep(one.system, free, name, True)]
    for person in one.people:
        for each in office.people_on(one.system)[person]:
            if each.may_come_in:
                steps.append(MemberStep(one.system, free, name, each.account.login, False, True))
    for step in steps:
        step.apply(state)
    return next(group for group in state.groups if group.ident == free), steps
