"""Groups that would do: the fewest that give what people have, and groups in need of tidying."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field, replace

from neatledger.core.drafting.folders import rights_that_differ
from neatledger.core.drafting.grants import level_said
from neatledger.core.grouping.cover import Cover, fewest_groups
from neatledger.core.grouping.tidy import Oddity, find_oddities
from neatledger.core.lists.rights import Level, Right
from neatledger.core.people.membership import outer_groups
from neatledger.core.plan.plan import Kind
from neatledger.core.tree.address import Address
from neatledger.questions.draft import homes_like
from neatledger.questions.office import Office
from neatledger.questions.trials import idents_that_count

__all__ = ["Grouping", "Suggestion", "ask"]

_MOST_SHOWN = 100


@dataclass(frozen=True, slots=True)
class Suggestion:
    """One thing to do about groups of a system.

    `kind` says what; `groups` are those there that it is about, `people` who would be in it, and `grants` what it
    gives where, as levels, and `rights` exactly; `gains` is who gets what that they have not. `near` is a group
    that could become it, and `unneeded` are those that the groups which would do leave without a use; `members_of`
    says who is in these. Of two groups nearly alike `only` are those who are in one alone, to be put in or (`is_in`
    false) out.
    """

    system: str
    kind: str
    groups: tuple[str, ...]
    people: tuple[str, ...]
    text: str
    grants: Mapping[Address, Level] = field(default_factory=dict)
    gains: Mapping[str, tuple[Address, ...]] = field(default_factory=dict)
    rights: Mapping[Address, Right] = field(default_factory=dict)
    near: str = ""
    unneeded: tuple[str, ...] = ()
    members_of: Mapping[str, frozenset[str]] = field(default_factory=dict)
    only: tuple[frozenset[str], frozenset[str]] = (frozenset(), frozenset())
    is_in: bool = True


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
        accounts = Counter(ident for one in principals for ident in one.holder.groups)
        self._alone = {group.name for group in self.reader.groups if accounts[group.ident] < 2}
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
        kept = {frozenset(group.people) for group in cover.groups}
        unneeded = tuple(sorted(name for name in granting & self.members.keys() if self.members[name] not in kept))
        for group in ranked[:_MOST_SHOWN]:
            places = sorted({address for address, _ in group.gives}, key=lambda one: one.parts)
            # What everybody has there is given by no group, and counts for the level all the same.
            gives = {one: self._least(one, group.people - cover.gains.keys() or group.people) for one in places}
            one = self._would_do(group.people, gives, cover)
            # What becomes another group is one that nothing else needs.
            near = one.near if one.near in unneeded else ""
            found.suggestions.append(replace(one, near=near, unneeded=unneeded, members_of=self.members))
        for odd in find_oddities(self.members, granting):
            # Who is in a group and could not be put into one is in it all the same.
            if odd.kind != "one person" or odd.groups[0] in self._alone:
                found.suggestions += self._of_oddity(odd)

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
        # What somebody makes is their primary group's.
        primary = {account.primary for account in self.reader.accounts} - {""}
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
        counting |= primary
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

    def _of_oddity(self, one: Oddity) -> list[Suggestion]:
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
                moves = {True: "put into both", False: "taken out"}
                some = ", ".join(sorted(one.only[0] | one.only[1]))
                return [
                    Suggestion(
                        self.system,
                        one.kind,
                        names,
                        people,
                        f"{text} Alike with {some} {word}",
                        only=one.only,
                        is_in=each,
                    )
                    for each, word in moves.items()
                ]
            case "grants nothing":
                text = f"no list gives {names[0]} anything, by itself or by a group that it is in"
            case _:
                text = f"only {people[0]} is in {names[0]}"
        return [Suggestion(self.system, one.kind, names, people, text)]

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
        likes = False
        if same:
            text = f"{same} as it is"
        elif near and _likeness(self.members[near], people) >= 0.5:
            more, less = sorted(people - self.members[near]), sorted(self.members[near] - people)
            parts = ([f"with {', '.join(more)}"] if more else []) + ([f"without {', '.join(less)}"] if less else [])
            text = f"like {near}, {' and '.join(parts)}"
            likes = True
        else:
            text = f"a new group: {names}"
        gains = {
            person: tuple(sorted({address for address, _ in some if address in gives}, key=str))
            for person, some in cover.gains.items()
            if person in people
        }
        groups = (same,) if same else ()
        found = Suggestion(self.system, "would do", groups, tuple(sorted(people)), text, grants, gains, gives)
        return replace(found, near=near if likes else "")


_KNOWN = frozenset({"S-1-5-11", "S-1-1-0"})


def _likeness(one: frozenset[str], other: frozenset[str]) -> float:
    return len(one & other) / max(1, len(one | other))
