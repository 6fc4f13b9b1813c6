"""The steps that bring what was found to the plan, and what of the differences they leave, with the reason.

Accounts of those who start come first, with their homes; then memberships, for many a list is right and only the
wrong people are in its groups; then accounts of those who are not here; then the lists of the folders that still
differ, from the top down, and team folders. What was found is looked at anew after every round, as it would be by
then, until nothing more can be brought nearer.
"""

from __future__ import annotations

from collections.abc import Collection, Iterable
from contextlib import suppress
from dataclasses import dataclass, replace
from functools import cached_property

import numpy as np

from neatledger.core.access.differences import Difference, nearest_planned
from neatledger.core.access.divergence import divergences
from neatledger.core.access.shares import Share
from neatledger.core.people.principals import Principal
from neatledger.core.plan.plan import Kind
from neatledger.core.reviews.pack import Decision
from neatledger.core.steps.accounts import AccountStep
from neatledger.core.steps.contract import FileSort, ItemState, Step
from neatledger.core.steps.grants import passed_on, set_holder
from neatledger.core.steps.lists import FilesStep, ListStep, files_steps
from neatledger.core.steps.members import MemberStep
from neatledger.core.steps.narrowed import fitting_owner, rights_by_list
from neatledger.core.steps.shares import ShareStep
from neatledger.core.steps.teams import TeamStep
from neatledger.core.steps.wanted import Meant, wanted_item
from neatledger.core.steps.whom import Sort, Whom
from neatledger.core.survey.accounts import AccountState
from neatledger.core.tree.address import Address
from neatledger.core.tree.table import folder_paths
from neatledger.errors import StepError
from neatledger.ledger.imagined import ImaginedReader, begin_imagining
from neatledger.ledger.locations import find_location, unknown_folder
from neatledger.questions.decided import Decided, newest_decisions
from neatledger.questions.differences import find_absences
from neatledger.questions.mending_grants import grants_on, members_of_groups
from neatledger.questions.mending_left import ABSENT, GATES, Left, Reasons
from neatledger.questions.mending_limits import limit_steps
from neatledger.questions.mending_sharing import sharing_steps
from neatledger.questions.mending_teams import wanted_team
from neatledger.questions.mending_together import together_steps
from neatledger.questions.mending_ways_in import way_in_steps
from neatledger.questions.office import Office
from neatledger.questions.starting import account_steps, home_steps, why_perhaps_there

__all__ = ["Mending", "find_mending"]

_MOST_ROUNDS = 8


@dataclass(frozen=True, slots=True)
class Mending:
    """The steps that bring found to plan, in the order in which they were found, and what they leave.

    `misfits` are steps that should, and do not fit, each with why.
    """

    steps: list[Step]
    left: list[Left]
    misfits: list[tuple[Step, str]]


def find_mending(office: Office, below: Address | None = None, people: Collection[str] | None = None) -> Mending:
    """Return the steps that bring found to plan: everywhere, in a folder and below, or for some people."""
    finder = _Finder(office, below, people)
    finder.newcomers()
    finder.groups()
    finder.accounts()
    for _ in range(_MOST_ROUNDS):
        if not finder.folders():
            break
    finder.single_files()
    finder.together()
    finder.sharing()
    finder.limits()
    return Mending(finder.steps, finder.left(), finder.misfits)


class _Finder:
    """Finds steps, and sees the office as it would be after those found by now."""

    def __init__(self, office: Office, below: Address | None, people: Collection[str] | None) -> None:
        self.office, self.below, self.people = office, below, people
        self.steps: list[Step] = []
        self.misfits: list[tuple[Step, str]] = []
        self.then = office
        self._why: dict[tuple[str, Address], str] = {}
        self._states: dict[str, ImaginedReader] = {}
        self._meant_at: dict[tuple[str, Address | None, tuple[Decision | None, ...]], Meant] = {}
        self._decided = Decided(newest_decisions(office))
        self._reasons = Reasons(office)

    def _is_asked(self, person: str) -> bool:
        return self.people is None or person in self.people

    def _add(self, steps: Iterable[Step]) -> int:
        added = 0
        for step in steps:
            try:
                step.apply(self._state(step.system))
            except StepError as error:
                # One that does not fit after the others is told, and hides none of them; one that came twice is made.
                if step not in self.steps:
                    self.misfits.append((step, error.what))
                continue
            self.steps.append(step)
            added += 1
        return added

    def _state(self, system: str) -> ImaginedReader:
        """Return a system as it would be after the steps found by now, and after those that come."""
        if system not in self._states:
            self._states[system] = begin_imagining(self.then.readers, self.then.imagined, system)
        return self._states[system]

    def _look_again(self) -> None:
        """Let questions see the systems as they would be by now."""
        self.then = self.office.with_(imagined={**self.office.imagined, **self._states})

    # Groups and accounts ----------------------------------------------------------------------------

    @cached_property
    def _concerned(self) -> tuple[set[str], set[str]]:
        """Return whom something differs for in the folder that is asked for and below, and the groups named there."""
        assert self.below is not None, "asked where a folder is"
        system = self.below.system
        differing = self._differing(system)
        people = {one.person for some in differing.values() for one in some}
        matrix = self.then.systems.everyone(system, self.then.systems.holders[system], is_narrow=True).matrix
        row = matrix.find_row(self.below.parts)
        if row is None:
            raise unknown_folder(self.then.readers[system], self.below, "folder")
        rows = matrix.order.below(row)
        views = [matrix.view(number, is_folder=True) for number in np.unique(matrix.folders["list"][rows]).tolist()]
        return people, {ident for view in views for ident in (*view.groups, *view.either)}

    def _is_asked_about(self, system: str, person: str, group: str = "") -> bool:
        """Tell whether a step on an account, or on its membership in a group, is asked for."""
        if not self._is_asked(person):
            return False
        if self.below is None:
            return True
        return self.below.system == system and (
            person in self._concerned[0] and (not group or group in self._concerned[1])
        )

    def newcomers(self) -> None:
        """Make the accounts that the plan gives to people who are here and that are not there, and their homes."""
        before = len(self.steps)
        for person in self.office.plan.people.values():
            if not (person.is_here(self.office.today) and self._is_asked(person.id)) or self.below is not None:
                continue
            for system, logins in person.accounts.items():
                if system not in self.office.readers:
                    continue
                state = self._state(system)
                # A system known by identifiers may be told one in place of a login.
                known = {name for one in state.accounts for name in (one.login, one.ident)}
                for login in (one for one in logins if one not in known):
                    steps = account_steps(self.office, state, person, login)
                    why = why_perhaps_there(self.office.readers[system].not_seen, login)
                    self.misfits += [(step, why) for step in steps if why]
                    self._add([] if why else steps)
                self._add(home_steps(self.office, state, person))
        if len(self.steps) > before:
            self._look_again()

    def groups(self) -> None:
        """Bring the members of the plan's groups to the plan, wherever a system has them."""
        for system in self.office.readers:
            for name, planned in self.office.plan.groups.items():
                state = self._state(system)
                called = planned.names.get(system, name)
                group = next((one for one in state.groups if one.name == called), None)
                if group is None or group.untold:
                    continue
                self._add(self._memberships(system, group.ident, called))
        self._look_again()

    def _memberships(self, system: str, ident: str, called: str) -> list[Step]:
        plan, found = self.office.plan, list[Step]()
        # Two lines of one identifier are one group: who is meant to be in either is meant to be in it.
        names = {one.name for one in self._state(system).groups if one.ident == ident}
        alike = [each for each, one in plan.groups.items() if one.names.get(system, each) in names]
        group = next(one for one in self._state(system).groups if (one.ident, one.name) == (ident, called))
        for principal in self.then.principals.get(system, ()):
            login, person = principal.account.login, principal.person
            if not principal.is_planned or principal.kind is Kind.SERVICE:
                continue
            if not self._is_asked_about(system, person, ident):
                continue
            is_meant = any(person in plan.members[each] for each in alike)
            is_in = ident in principal.holder.groups
            if is_in and not is_meant and login in group.members and principal.account.primary != ident:
                found.append(MemberStep(system, ident, called, login, False, False))
            # Of several accounts of a person those that may not come in need nothing.
            elif (
                is_meant
                and not is_in
                and ident not in principal.holder.maybe
                and plan.is_here(person)
                and principal.may_come_in
                and not _is_administrator(self.then, system, principal)
            ):
                found.append(MemberStep(system, ident, called, login, False, True))
        return found

    def accounts(self) -> None:
        """Close the accounts of people who are not here any more."""
        for system, principals in self.office.principals.items():
            for one in principals:
                planned = self.office.plan.people.get(one.person)
                has_left = planned and planned.end is not None and planned.end < self.office.today
                is_open = one.account.state is AccountState.OPEN
                if has_left and is_open and self._is_asked_about(system, one.person):
                    self._add([AccountStep(system, one.account.login, AccountState.OPEN, AccountState.DISABLED)])
        self._look_again()

    # Folders ----------------------------------------------------------------------------------------

    def folders(self) -> int:
        """Bring folders nearer to the plan that differ, and return how many steps that took."""
        before = len(self.steps)
        for system in self.office.readers:
            if self.below is None or self.below.system == system:
                self._folders_of(system)
        if len(self.steps) > before:
            self._look_again()
        return len(self.steps) - before

    def _differing(self, system: str) -> dict[Address, list[Difference]]:
        """Return what differs on a system as it would be by now, by folder."""
        principals = self.then.systems.holders.get(system, [])
        plan = self.office.plan
        if not principals or not any(folder.address.system == system for folder in plan.folders):
            return {}
        everyone = self.then.systems.everyone(system, principals, is_narrow=True)
        matrix = everyone.matrix
        people = {
            person: numbers
            for person, numbers in everyone.ordinary(enumerate(matrix.principals)).items()
            if self._is_asked(person)
            and (person in plan.people or matrix.principals[numbers[0]].kind is not Kind.SERVICE)
        }
        top = 0 if self.below is None else matrix.find_row(self.below.parts)
        found: dict[Address, list[Difference]] = {}
        for one in divergences(plan, system, everyone, people, top or 0):
            found.setdefault(one.difference.address, []).append(one.difference)
        return found

    def _folders_of(self, system: str) -> None:
        people = self._people_of(system)
        differing = self._differing(system)
        self._why = {key: why for key, why in self._why.items() if key[1].system != system}
        for address, some in sorted(differing.items(), key=lambda one: (len(one[0].parts), one[0].path)):
            # What an account has that no person of the plan has is no fault of a list: it waits to be matched.
            differences = [one for one in some if one.person in self.office.plan.people]
            for one in some:
                said = self._decided.why(address, one.person) if one.is_less else ""
                if said and one in differences:
                    # What was taken away is not given back, whatever the plan still says of it.
                    self._why[one.person, address] = said
                    differences = [each for each in differences if each is not one or one.is_more]
                elif one not in differences:
                    self._why[one.person, address] = self._reasons.beyond(self.then, self._state(system), one)
            if not differences:
                continue
            if self._team(system, address):
                continue
            try:
                beyond = {one.person for one in differences if one.read_beyond or one.changed_beyond}
                steps = self._list_steps(system, address, people, beyond)
            except StepError as error:
                self._explain(differences, error.what)
                continue
            if not self._add(steps):
                self._enter(system, address, differences)

    def _people_of(self, system: str) -> list[Principal]:
        """Return the principals of the plan's people whom lists decide about."""
        return [
            one
            for one in self.then.principals.get(system, ())
            if one.is_planned and one.kind is not Kind.SERVICE and not _is_administrator(self.then, system, one)
        ]

    def _explain(self, differences: Iterable[Difference], why: str) -> None:
        for one in differences:
            self._why[one.person, one.address] = why

    def _meant(self, system: str, address: Address, people: list[Principal]) -> Meant:
        """Return what the plan means on a folder: what it means on the nearest that it names, but for patterns."""
        planned = nearest_planned(self.office.plan, address)
        over = tuple(self._decided.over(address, one.person) for one in people)
        key = system, None if planned is None else planned.address, over if any(over) else ()
        if key not in self._meant_at:
            self._meant_at[key] = self._make_meant(system, address, people)
        return self._meant_at[key]

    def _make_meant(self, system: str, address: Address, people: list[Principal]) -> Meant:
        plan, state = self.office.plan, self._state(system)
        rights = {
            one.person: self._decided.bounded(address, one.person, plan.rights_at(address, one.person)[0])
            for one in people
        }
        members = members_of_groups(people, {group.ident: group.name for group in state.groups})
        return Meant(state.model, people, rights, grants_on(plan, system, address, state), members)

    def _asked_of(self, meant: Meant, item: ItemState, *, is_folder: bool) -> Meant:
        """Return what the plan means for those who are asked for; all others keep what they have."""
        if self.people is None:
            return meant
        has = rights_by_list(meant.model, item, meant.people, is_folder=is_folder)
        rights = {person: meant.rights[person] if person in self.people else some for person, some in has.items()}
        asked = sum(1 << place for place, one in enumerate(meant.people) if one.person in self.people)
        grants = [(whom, some) for whom, some in meant.grants if meant.among(whom) & asked]
        return replace(meant, rights=rights, grants=grants)

    def _list_steps(
        self, system: str, address: Address, people: list[Principal], beyond: Collection[str]
    ) -> list[Step]:
        state = self._state(system)
        item = state.folder_state(address.path)
        assert item is not None, "only folders that were counted differ"
        meant = self._meant(system, address, people)
        found: list[Step] = []
        after = wanted_item(item, self._asked_of(meant, item, is_folder=True))
        if after != item:
            found.append(ListStep(system, address.path, state.model, item, after))
            found += [] if state.model == "posix" else passed_on(state, address.path, state.model, after)
        if state.model == "posix" or not found:
            # Where files have what comes from their folder, they are looked at when that stands.
            found += self._file_steps(system, address, meant, beyond)
        return found

    def _enter(self, system: str, address: Address, differences: list[Difference]) -> None:
        """Open what keeps people back before the list is asked, or say why nothing helps."""
        kept_out: dict[bytes, list[Difference]] = {}
        for one in differences:
            if not (one.missing or one.beyond):
                self._why[one.person, address] = self._reasons.of_files(self.then, self._state(system), one)
                continue
            if not one.missing:
                self._why[one.person, address] = self._reasons.beyond(self.then, self._state(system), one)
                continue
            principals = [each for each in self.then.systems.holders[system] if each.person == one.person]
            access = self.then.systems.access(find_location(self.then.readers[system], address), principals)
            ways = [way for way in access.ways if way.name in ("share", "team") and way.principal.may_come_in]
            ways = ways or [way for way in access.ways if way.name in ("share", "team")]
            # Of the ways in the one counts that comes furthest.
            gates = [gate for way in ways for gate in way.gates if gate.is_unsure or one.missing & ~gate.passes]
            gate = gates[0] if gates else None
            if gate is not None and gate.name == "enter":
                kept_out.setdefault(gate.place, []).append(one)
                continue
            if gate is not None and gate.name == "share" and self._open_share(system, ways[0].through, one):
                continue
            self._why[one.person, address] = GATES.get(gate.name if gate else "", "no way in leads to it")
        for place, some in kept_out.items():
            if not self._let_through(system, place, address, [one.person for one in some]):
                self._explain(some, GATES["enter"])

    def _open_share(self, system: str, name: str, one: Difference) -> bool:
        """Let a share's permission give the plan's holder what its folder's list gives them."""
        state = self._state(system)
        shares = [Share.of_facts(each) for each in state.facts.get("shares") or ()]
        share = next((each for each in shares if each.name == name), None)
        if share is None or share.read_only:
            return False
        for whom, rights in grants_on(self.office.plan, system, one.address, state):
            if rights & one.missing and self._speaks_of(system, whom, one.person):
                body = set_holder("nt", share.body, whom, rights, is_folder=True)
                if body != share.body:
                    return bool(self._add([ShareStep(system, share, replace(share, body=body))]))
        return False

    def _speaks_of(self, system: str, whom: Whom, person: str) -> bool:
        principals = [each for each in self.then.principals[system] if each.person == person]
        return whom.sort is Sort.EVERYONE or any(whom.ident in each.holder.idents for each in principals)

    def _let_through(self, system: str, place: bytes, address: Address, people: Collection[str]) -> bool:
        """Let people through a folder of which the plan says nothing, by the holders that it names on the other."""
        if nearest_planned(self.office.plan, Address(system, place)) is not None:
            return False
        state = self._state(system)
        principals = [one for one in self.then.principals[system] if one.person in people and one.may_come_in]
        whoms = [
            whom
            for whom, rights in grants_on(self.office.plan, system, address, state)
            if rights and any(self._speaks_of(system, whom, person) for person in people)
        ]
        named = {whom.ident for whom in whoms}
        whoms += [
            Whom(Sort.USER, one.account.ident, one.account.login)
            for one in principals
            if not named & one.holder.idents and not any(whom.sort is Sort.EVERYONE for whom in whoms)
        ]
        self._look_again()
        return bool(self._add(way_in_steps(self.then, self._state(system), place, whoms)))

    def _team(self, system: str, address: Address) -> bool:
        """Bring a team folder's members to the plan; tell whether anything was to do."""
        state = self._state(system)
        team = next((one for one in state.shared.teams if one.path == address.path), None) if state.shared else None
        if team is None or not any(one.address == address for one in self.office.plan.folders):
            return False
        grants = grants_on(self.office.plan, system, address, state)
        after = wanted_team(team, grants, lambda is_group, holder: self._is_asked_of(system, is_group, holder))
        return after != team and bool(self._add([TeamStep(system, team, after)]))

    def _is_asked_of(self, system: str, is_group: bool, holder: str) -> bool:
        """Tell whether a member of a team folder is, or holds, somebody who is asked for."""
        if self.people is None:
            return True
        idents = {one.ident for one in self._state(system).groups if is_group and one.name == holder}
        return any(
            one.person in self.people and (bool(one.holder.groups & idents) or one.account.login == holder)
            for one in self.then.principals.get(system, ())
        )

    def single_files(self) -> None:
        """Bring files to the plan whose lists are others than those of most beside them, in folders that agree."""
        for system in self.office.readers:
            state = self._state(system)
            if self.below is not None and self.below.system != system:
                continue
            explained = {address for _, address in self._why}
            folders, odd = state.table("folders"), state.table("odd")
            path_of = folder_paths(folders)
            people = self._people_of(system)
            found: list[Step] = []
            for row in np.unique(odd["folder"]).tolist() if odd.rows else ():
                address = Address(system, path_of(row))
                inside = self.below is None or address.is_within(self.below)
                # Where the folder's own list cannot be put right, neither are its files by themselves.
                if inside and address not in explained and self.office.plan.grants_at(address):
                    with suppress(StepError):
                        found += self._file_steps(system, address, self._meant(system, address, people))
            if self.people is None and self._add(found):
                self._look_again()

    def together(self) -> None:
        """Let those work together who may write in a folder, as all would be by then: no matter of one person."""
        for system in self.office.readers if self.people is None else ():
            if self.below is None or self.below.system == system:
                people = self._people_of(system)
                steps = together_steps(self.office.plan, self._state(system), people, self.below)
                if self._add(list(steps)):
                    self._look_again()

    def _file_steps(
        self, system: str, address: Address, meant: Meant, beyond: Collection[str] = ()
    ) -> list[FilesStep]:
        """Return the steps that bring files to the plan; of `beyond` it is known that they have too much of some."""
        state = self._state(system)
        sorts, item = state.file_sorts(address.path), state.folder_state(address.path)
        assert item is not None, "only folders that were counted differ"
        then = {}
        for one in sorts:
            file = ItemState(one.owner, one.body)
            body = wanted_item(file, self._asked_of(meant, file, is_folder=False), is_folder=False).body
            then[one] = FileSort(fitting_owner(meant, ItemState(one.owner, body), item.owner, beyond), body)
        return files_steps(system, address.path, state.model, sorts, then)

    def sharing(self) -> None:
        """Bring links and hand-outs to the rules, as everything else would be by then."""
        if self._add(sharing_steps(self.then, self.below, self.people)):
            self._look_again()

    def limits(self) -> None:
        """Bring the limits that systems tell to the plan's."""
        self._add(limit_steps(self.office, self.below, self.people))

    def left(self) -> list[Left]:
        """Return what still differs after all steps, and why."""
        found = [Left(one, ABSENT[one.is_known]) for one in find_absences(self.then, self.people, self.below)]
        for system in self.office.readers:
            if self.below is not None and self.below.system != system:
                continue
            for address, differences in self._differing(system).items():
                for one in differences:
                    why = self._why.get((one.person, address), "it is left by what lies above")
                    found.append(Left(one, why))
        return found


def _is_administrator(office: Office, system: str, principal: Principal) -> bool:
    return office.readers[system].terms.model.overrides(principal.holder) is not None
