"""What a suggestion about groups comes to: its steps, and who gains or loses what by them."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass, replace

from neatledger.core.lists.rights import Right
from neatledger.core.lists.table import MODELS
from neatledger.core.people.principals import Principal
from neatledger.core.steps.contract import Step
from neatledger.core.steps.grants import grant_steps
from neatledger.core.steps.groups import GroupStep
from neatledger.core.steps.members import MemberStep
from neatledger.core.steps.regrouping import (
    group_in_place_of_people,
    holder_in_place_of_group,
    in_place_on_shares,
    without_covered,
)
from neatledger.core.steps.reteaming import in_place_in_teams
from neatledger.core.steps.whom import Sort, Whom
from neatledger.core.survey.accounts import Group
from neatledger.core.tree.address import Address
from neatledger.errors import StepError
from neatledger.ledger.imagined import ImaginedReader
from neatledger.questions.grouping import Suggestion
from neatledger.questions.imagined import imagined_office
from neatledger.questions.office import Office
from neatledger.questions.suppose_access import MadeChange, effects_of

__all__ = ["Regrouping", "ask"]

_FIRST_FREE, _LAST_FREE = 1000, 60_000
_MOST_TRIED = 200
_BUILT_IN, _FIRST_OWN = "S-1-5-32-", 1000
"""Groups that every such system has: S-1-5-32-x, and a domain's with a last number below 1000 (MS-DTYP 2.4.2.4)."""


@dataclass(frozen=True, slots=True)
class Regrouping:
    """The steps that make a suggestion true, who gains or loses what by them, and what is to be known beside."""

    steps: Sequence[Step]
    changes: Sequence[MadeChange]
    note: str = ""


def ask(office: Office, one: Suggestion, name: str = "") -> Regrouping:
    """Return what a suggestion comes to; a group that is not there yet is called `name`.

    Raises `StepError` where no steps do it.
    """
    match one.kind:
        case "would do":
            return _would_do(office, one, name)
        case "stays by name":
            return Regrouping([], [], "It is as it should be: nothing is to be done.")
    maker = _Maker(office, one)
    match one.kind:
        case "twins":
            kept, gone = (maker.groups[each] for each in one.groups)
            maker.replace(gone, _whom(kept))
            if not maker.steps:
                maker.note = f"Nothing names {gone.name}: what is to be done is to remove it, if nobody needs it."
        case "nearly the same":
            maker.make_the_same()
        case "one person":
            maker.name_the_person()
        case _:
            maker.remove_group(maker.groups[one.groups[0]])
    return maker.done()


def _whom(group: Group) -> Whom:
    return Whom(Sort.GROUP, group.ident, group.name)


class _Maker:
    """Makes steps on one system as it is after those made before."""

    def __init__(self, office: Office, one: Suggestion) -> None:
        self.office, self.one, self.system = office, one, one.system
        self.state = ImaginedReader(office.reader(one.system))
        self.steps: list[Step] = []
        self.note = ""
        self._now: tuple[int, Office] | None = None

    @property
    def groups(self) -> dict[str, Group]:
        """The groups by name, as they are now."""
        return {group.name: group for group in self.state.groups}

    def add(self, steps: Iterable[Step]) -> None:
        """Make some steps."""
        for step in steps:
            step.apply(self.state)
            self.steps.append(step)

    def made(self, find: Callable[[ImaginedReader], Iterable[Step]]) -> None:
        """Make what is found of a state that finding may change."""
        self.add(find(self.state.copy()))

    def if_nobody_gains(self, steps: Sequence[Step]) -> None:
        """Make those steps by which nobody gains or loses anything, all together or one by one.

        Where an entry that goes had decided alone, others begin to count: then it stays.
        """
        if not steps or self._is_harmless(steps):
            self.add(steps)
        elif self.state.model == "posix" and len(steps) <= _MOST_TRIED:
            # Elsewhere a step may pass on what another one sets.
            for step in steps:
                if self._is_harmless([step]):
                    self.add([step])

    def _is_harmless(self, steps: Sequence[Step]) -> bool:
        if self._now is None or self._now[0] != len(self.steps):
            self._now = len(self.steps), imagined_office(self.office, self.steps)
        return not effects_of(self._now[1], imagined_office(self.office, [*self.steps, *steps]))

    def done(self) -> Regrouping:
        """Return all steps, and what they do."""
        changes = effects_of(self.office, imagined_office(self.office, self.steps))
        return Regrouping(self.steps, changes, self.note)

    def accounts(self, person: str) -> list[Principal]:
        """Return a person's accounts that can be put into groups."""
        return [one for one in self.office.people_on(self.system).get(person, ()) if one.may_come_in]

    # Each kind --------------------------------------------------------------------------------------

    def replace(self, old: Group, new: Whom) -> None:
        """Name somebody else wherever a group is named."""
        self.made(lambda state: holder_in_place_of_group(state, state.model, _whom(old), new))
        self.made(lambda state: in_place_on_shares(state, _whom(old), new))
        self.made(lambda state: in_place_in_teams(state, [_whom(old)], new))

    def make_the_same(self) -> None:
        """Put those who are in one of two groups into the other, or take them out."""
        for name, other, some in zip(self.one.groups, self.one.groups[::-1], self.one.only, strict=True):
            group = self.groups[other if self.one.is_in else name]
            for person in sorted(some):
                for each in self.accounts(person):
                    login = each.account.login
                    if (login in group.members) != self.one.is_in:
                        group = self.groups[group.name]
                        step = MemberStep(self.system, group.ident, group.name, login, False, self.one.is_in)
                        self.add([step])

    def name_the_person(self) -> None:
        """Name the one person wherever their group is named, and take the group away."""
        group = self.groups[self.one.groups[0]]
        accounts = self.accounts(self.one.people[0])
        if len(accounts) != 1:
            raise StepError("they have more than one account there, or none", f"{self.system}:{self.one.people[0]}")
        mine = accounts[0].account
        self.replace(group, Whom(Sort.USER, mine.ident, mine.login))
        self.remove_group(group)

    def remove_group(self, group: Group) -> None:
        """Take a group away, with its members and out of the groups that it is in."""
        where = f"{self.system}:{group.name}"
        if group.ident.startswith(_BUILT_IN) or (
            group.ident.startswith("S-1-5-21-") and int(group.ident.rpartition("-")[2]) < _FIRST_OWN
        ):
            raise StepError("it is a group of the system's own, which stays", where)
        if any(one.primary == group.ident for one in self.state.accounts):
            raise StepError("accounts have it as their primary group, which they keep", where)
        if group.untold:
            raise StepError("not all of its members were told: a person must look at it", where)
        for outer in self.state.groups:
            if {group.ident, group.name} & set(outer.nested):
                step = MemberStep(self.system, outer.ident, outer.name, group.ident, True, False, group.name)
                self.add([step])
        inner = {one.ident: one for one in self.state.groups} | self.groups
        for each in group.nested:
            ident, name = (inner[each].ident, inner[each].name) if each in inner else (each, each)
            self.add([MemberStep(self.system, group.ident, group.name, ident, True, False, name)])
        # Some directories hold no empty group: the last one goes with it.
        for login in group.members[1:]:
            self.add([MemberStep(self.system, group.ident, group.name, login, False, False)])
        self.add([GroupStep(self.system, group.ident, group.name, False, "".join(group.members[:1]))])

    # A group that would do --------------------------------------------------------------------------

    def with_members(self, group: Group) -> Group:
        """Make a group hold just the people of the suggestion."""
        wanted = [each.account.login for person in self.one.people for each in self.accounts(person)]
        for login in (*wanted, *group.members):
            is_in = login in wanted
            if is_in != (login in group.members):
                self.add([MemberStep(self.system, group.ident, group.name, login, False, is_in)])
        return self.groups[group.name]

    def new_group(self, name: str) -> Group:
        """Make a group of the people of the suggestion."""
        if not name:
            raise StepError("a new group needs a name", self.system, "--called NAME")
        if name in self.groups:
            raise StepError("there is a group of this name", f"{self.system}:{name}", "--called: another name")
        logins = [each.account.login for person in self.one.people for each in self.accounts(person)]
        step = GroupStep(self.system, self._new_ident(name), name, True, "".join(logins[:1]))
        self.add([step])
        for login in logins[1:]:
            self.add([MemberStep(self.system, step.group, name, login, False, True)])
        return self.groups[name]

    def _new_ident(self, name: str) -> str:
        """Return the identifier of a new group: a free number where groups have numbers, else its name."""
        taken = {group.ident for group in self.state.groups} | {one.primary for one in self.state.accounts}
        if self.state.model == "posix" or any(group.ident.isdecimal() for group in self.state.groups):
            return next(str(number) for number in range(_FIRST_FREE, _LAST_FREE) if str(number) not in taken)
        return name

    def is_known(self, group: Group) -> bool:
        """Tell whether lists can name a group: some systems give it an identifier only when it is made."""
        there = self.office.readers[self.system].groups
        if group.ident != group.name or group.ident in {one.ident for one in there}:
            return True
        return all(one.ident == one.name for one in there)

    def give(self, group: Group) -> None:
        """Let lists name the group for what it would give, and leave out who is covered by it."""
        whom = _whom(group)
        mine = [one.account for person in self.one.people for one in self.accounts(person)]
        # Two accounts may be one to lists.
        people = list({one.ident: Whom(Sort.USER, one.ident, one.login) for one in mine}.values())
        idents = [one.ident for one in people]
        state = self.state.copy()
        self.if_nobody_gains(group_in_place_of_people(state, state.model, idents, whom))
        self.if_nobody_gains(in_place_in_teams(self.state, people, whom))
        self._grant(whom)
        unneeded = [_whom(self.groups[each]) for each in self.one.unneeded if self._is_within(each)]
        state = self.state.copy()
        self.if_nobody_gains(without_covered(state, state.model, whom, [*people, *unneeded]))

    def _is_within(self, name: str) -> bool:
        return (
            name in self.groups and name not in self.one.groups and self.one.members_of[name] <= set(self.one.people)
        )

    def _grant(self, whom: Whom) -> None:
        """Give the group on each folder what it would give there, where that gives nobody more than they have."""
        for address, rights in sorted(self.one.rights.items(), key=lambda each: each[0].parts):
            has = self._given(whom, address)
            missing = rights & _GIVEN & ~has
            if not missing:
                continue
            try:
                steps = grant_steps(self.state, address.path, self.state.model, whom, has | missing)
            except StepError:
                continue
            if self._is_harmless(steps):
                self.add(steps)

    def _given(self, whom: Whom, address: Address) -> Right:
        item = self.state.folder_state(address.path)
        if item is None:
            return ~Right.NONE
        view = MODELS[self.state.model].parse(item.body).view(is_folder=True)
        return (view.groups | view.either).get(whom.ident, Right.NONE) | view.everyone


_GIVEN = Right.ENTER | Right.LIST | Right.READ | Right.ADD | Right.CHANGE | Right.DELETE


def _would_do(office: Office, one: Suggestion, name: str) -> Regrouping:
    """Return how a group comes to give what it would: the one that is there, one like it, or a new one."""
    if one.groups:
        maker = _Maker(office, one)
        maker.give(maker.groups[one.groups[0]])
        found = maker.done()
        note = (
            ""
            if found.steps
            else f"{one.groups[0]} has just these people and gives it already: nothing is to be done."
        )
        return replace(found, note=note)
    if one.near and not name:
        maker = _Maker(office, one)
        try:
            maker.give(maker.with_members(maker.groups[one.near]))
            changed = maker.done()
            if _is_within(changed.changes, one):
                return changed
        except StepError:
            # It cannot become the one that would do: then that is a new one.
            pass
    maker = _Maker(office, one)
    group = maker.new_group(name)
    if maker.is_known(group):
        maker.give(group)
    else:
        maker.note = (
            "The system gives the group its identifier when it is made: take a count then and ask again, "
            "and lists are given to it."
        )
    return maker.done()


def _is_within(changes: Sequence[MadeChange], one: Suggestion) -> bool:
    """Tell whether nobody loses, and only those gain of whom the suggestion says so."""
    return all(not each.change.loses and each.person in one.gains for each in changes)
