"""Ways to what is wanted on a folder: each person's own memberships and entries, and changes that several share."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from functools import cached_property

from neatledger.core.lists.contract import ItemContext
from neatledger.core.lists.doubt import judge
from neatledger.core.lists.rights import Right
from neatledger.core.lists.table import MODELS
from neatledger.core.people.membership import outer_groups
from neatledger.core.people.principals import Principal
from neatledger.core.steps.contract import Step
from neatledger.core.steps.grants import grant_steps, with_holder
from neatledger.core.steps.lists import ListStep
from neatledger.core.steps.members import MemberStep
from neatledger.core.steps.whom import Sort, Whom
from neatledger.core.tree.address import Address
from neatledger.errors import StepError
from neatledger.ledger.imagined import ImaginedReader
from neatledger.ledger.locations import find_location
from neatledger.questions.imagined import imagined_office
from neatledger.questions.office import Office
from neatledger.questions.trials import Judged, Trial, idents_that_count, judge_trials, memberships_of, trials_of

__all__ = ["Change", "Way", "WayFinder"]

_MOST_CELLS = 40_000_000
"""Trials × folders that are looked at for one person at once."""
_MOST_BELOW = 20_000
"""Folders below one up to which entries are tried every way: each is a step on every one of them."""
_MOST_STEPS = 100_000
"""Steps of entries that several people share, all tried together."""


@dataclass(frozen=True, slots=True)
class Change:
    """One change: whose, whether it is an entry, the steps that make it, and the group that it is an entry of."""

    of: str
    is_entry: bool
    steps: tuple[Step, ...]
    group: str = ""


@dataclass(frozen=True, slots=True)
class Way:
    """One way for one person: memberships, with them (`entry`) an entry of their own or its end, and what it does.

    `entries` is how many changes the entry is, and `rights` what it gives.
    """

    trial: Trial
    entry: str
    entries: int
    rights: Right
    judged: Judged

    @property
    def cost(self) -> tuple[int, int]:
        """Changes, and entries among them."""
        return len(self.trial.toggles) + self.entries, self.entries

    @property
    def harm(self) -> int:
        """On how many folders and files elsewhere it changes something."""
        return sum(one.folders + one.gained_files.most + one.lost_files.most for one in self.judged.elsewhere)


_GIVE, _TAKE, _THROUGH = "give", "take", "through"
# Memberships together, and what entry goes with them; the fewest changes first.
_TURNS = (
    *((0, ""), (1, ""), (0, _GIVE), (0, _TAKE)),
    *((2, ""), (0, _THROUGH), (1, _GIVE), (1, _TAKE)),
    *((3, ""), (1, _THROUGH), (2, _GIVE), (2, _TAKE)),
)


def _least(size: int, entry: str) -> int:
    return size + {"": 0, _THROUGH: 2}.get(entry, 1)


class WayFinder:
    """Finds people's own ways to what is wanted on one folder; `tried` sets of changes were looked at."""

    def __init__(self, office: Office, address: Address) -> None:
        """Look at one folder of an office."""
        self.office, self.address = office, address
        self.reader = office.readers[address.system]
        self.people = office.people_on(address.system)
        self.tried, self.is_whole = 0, True
        self._near: dict[str, Way] = {}

    @cached_property
    def _that_count(self) -> frozenset[str] | None:
        return idents_that_count(self.office, self.address.system)

    @cached_property
    def _outer(self) -> dict[str, set[str]]:
        """The groups that each group lies in."""
        groups = self.reader.groups
        return {group.ident: outer_groups(groups, group.ident) for group in groups}

    @cached_property
    def _of_several(self) -> set[str]:
        """The identifiers that accounts of several people have: an entry of theirs speaks of all of these."""
        people: dict[str, set[str]] = {}
        for person, mine in self.people.items():
            for one in mine:
                people.setdefault(one.account.ident, set()).add(person)
        return {ident for ident, some in people.items() if len(some) > 1}

    @cached_property
    def _below(self) -> int:
        """How many folders there are in the folder and below."""
        matrix = self.office.systems.everyone(self.address.system, [], is_narrow=True).matrix
        return len(matrix.order.below(matrix.find_row(self.address.parts) or 0))

    def _toggles(self, principals: Sequence[Principal], shared: Sequence[Change]) -> list[MemberStep]:
        counting, groups = self._that_count, self.reader.groups
        if counting is not None:
            counting |= {one.group for one in shared}
            groups = [group for group in groups if {group.ident, *self._outer[group.ident]} & counting]
        return memberships_of(self.address.system, principals, groups)

    # A person's own ways ----------------------------------------------------------------------------

    def unsatisfied(self, then: Office, wanted: Mapping[str, Right | None]) -> list[str]:
        """Return who of some people does not have yet what is wanted, or (None) what they had."""
        groups = then.readers[self.address.system].found_accounts
        trials = [one for person in wanted for one in trials_of(person, self.people.get(person, []), groups, (), 0)]
        judged = judge_trials(self.office, then, self.address, trials)
        return [one.trial.person for one in judged if not _is_right(one, wanted[one.trial.person])]

    def ways(self, shared: Sequence[Change], wanted: Mapping[str, Right | None]) -> dict[str, Way | None]:
        """Return everybody's best own way to what is wanted (None: to what they had), shared changes being made.

        Where there is none, None.
        """
        entries = _Entries(self, shared, wanted)
        found: dict[str, Way | None] = dict.fromkeys(wanted)
        for size, entry in _TURNS:
            least = _least(size, entry)
            open_ones = [
                person for person in wanted if (way := found[person]) is None or way.cost > (least, bool(entry))
            ]
            if not open_ones:
                continue
            for person in open_ones:
                self._turn(person, size, entry, entries, wanted, found)
        return found

    def _turn(
        self,
        person: str,
        size: int,
        entry: str,
        entries: _Entries,
        wanted: Mapping[str, Right | None],
        found: dict[str, Way | None],
    ) -> None:
        if entry in (_TAKE, _THROUGH) and self._below > _MOST_BELOW:
            self.is_whole = False
            return
        then = entries.office(entry)
        count = entries.count(entry, person)
        if then is None or count is None:
            return
        principals = self.people.get(person, [])
        toggles = self._toggles(principals, entries.shared) if size else []
        cells = _choose(len(toggles), size) * max(1, self.reader.table("folders").rows)
        if cells > _MOST_CELLS:
            self.is_whole = False
            return
        accounts = then.readers[self.address.system].found_accounts
        trials = list(trials_of(person, principals, accounts, toggles, size))
        self.tried += len(trials)
        for judged in judge_trials(self.office, then, self.address, trials):
            right = wanted[person]
            way = Way(judged.trial, entry, count, entries.rights(person), judged)
            if _is_right(judged, right):
                best = found[person]
                if best is None or way.cost < best.cost:
                    found[person] = way
            elif right is not None and judged.is_as(right):
                near = self._near.get(person)
                if not entries.shared and (near is None or (way.harm, way.cost) < (near.harm, near.cost)):
                    self._near[person] = way

    def nearest(self, person: str) -> Way | None:
        """Return the way to what is wanted that changes least elsewhere, of those that change anything there."""
        return self._near.get(person)

    def why_not(self, person: str) -> str:
        """Say what keeps somebody from what is wanted whatever entries say, as far as one gate does."""
        principals = self.people.get(person, [])
        access = self.office.systems.access(find_location(self.reader, self.address), principals)
        stops = [way.first_stop for way in access.ways if way.first_stop is not None]
        if stops and stops[0].name != "list":
            return f"{_GATES.get(stops[0].name, stops[0].name)} keeps them out"
        return "no memberships and no entry of theirs come to just that"

    # Changes that several share ---------------------------------------------------------------------

    def shared_changes(self, needing: Sequence[str], wanted: Iterable[Right], least: int) -> list[Change]:
        """Return single changes of groups that hold so many of some people at least: those that hold most first."""
        inside: dict[str, int] = {}
        for person in needing:
            for ident in {ident for one in self.people[person] for ident in one.holder.groups}:
                inside[ident] = inside.get(ident, 0) + 1
        groups = {group.ident: group for group in self.reader.groups if inside.get(group.ident, 0) >= least}
        ranked = sorted(groups, key=lambda ident: -inside.get(ident, 0))
        holders = [Whom(Sort.GROUP, ident, groups[ident].name) for ident in ranked]
        mine = [one.account for person in needing for one in self.people[person]]
        holders += [Whom(Sort.USER, one.ident, one.login) for one in mine if one.ident in self._of_several]
        found = []
        levels = list(dict.fromkeys([*wanted, Right.NONE, None]))
        most = _MOST_STEPS // (max(1, self._below) * len(levels))
        if len(holders) >= most:
            # Each entry is a step on every folder below: below a large one fewer are tried.
            self.is_whole, holders = False, holders[: max(most - 1, 0)]
        for whom in [*holders, Whom(Sort.EVERYONE, "", "everyone")]:
            for rights in levels:
                steps = self._entry_steps(ImaginedReader(self.reader), whom, rights)
                if steps:
                    found.append(Change(whom.name, True, tuple(steps), whom.ident))
        if any(group.nested for group in self.reader.groups):
            found += self._nestings(ranked)
        return found

    def _nestings(self, idents: Sequence[str]) -> list[Change]:
        system, groups = self.address.system, self.reader.groups
        by_ident = {group.ident: group for group in groups}
        found = []
        for ident in idents:
            outer = self._outer[ident]
            inner = {one for one, theirs in self._outer.items() if ident in theirs}
            for group in groups:
                is_in = ident in group.nested
                if group.ident == ident or group.untold or (not is_in and group.ident in outer | inner):
                    continue
                name = by_ident[ident].name
                step = MemberStep(system, group.ident, group.name, ident, True, not is_in, name)
                found.append(Change(name, False, (step,)))
        return found

    def go_together(self, first: Change, second: Change) -> bool:
        """Tell whether two shared changes can be made, the second one upon the first."""
        state = ImaginedReader(self.reader)
        try:
            for step in (*first.steps, *second.steps):
                step.apply(state)
        except StepError:
            return False
        return True

    def _entry_steps(self, state: ImaginedReader, whom: Whom, rights: Right | None) -> list[Step]:
        """Return the steps that set an entry on the folder and below, made in a state; none where nothing does."""
        try:
            steps = grant_steps(state, self.address.path, state.model, whom, rights)
        except StepError:
            return []
        for step in steps:
            step.apply(state)
        return list(steps)

    # Making them ------------------------------------------------------------------------------------

    def changes(self, shared: Sequence[Change], ways: Mapping[str, Way | None]) -> list[Change]:
        """Return all changes of a choice, memberships first, each as it fits after those before."""
        found, state = list(shared), ImaginedReader(self.reader)
        for change in shared:
            for step in change.steps:
                step.apply(state)
        chosen = {person: way for person, way in ways.items() if way is not None}
        for person, way in chosen.items():
            for toggle in way.trial.toggles:
                toggle.apply(state)
                found.append(Change(person, False, (toggle,)))
        for person, way in chosen.items():
            if way.entry:
                for steps in self.entry_changes(state, person, way.entry, way.rights):
                    found.append(Change(person, True, tuple(steps)))
        return found

    def entry_changes(self, state: ImaginedReader, person: str, entry: str, rights: Right | None) -> list[list[Step]]:
        """Return the changes of somebody's own entries, made in a state: each a run of steps."""
        found = []
        for one in self.people.get(person, []):
            if one.account.ident in self._of_several:
                continue
            whom = Whom(Sort.USER, one.account.ident, one.account.login)
            steps = self._entry_steps(state, whom, None if entry == _TAKE else rights)
            found += [steps] if steps else []
            if entry == _THROUGH:
                found += self._let_through(state, one, whom)
        return found

    def _let_through(self, state: ImaginedReader, one: Principal, whom: Whom) -> list[list[Step]]:
        found: list[list[Step]] = []
        parts = self.address.parts
        for depth in range(len(parts)):
            path = b"/" + b"/".join(parts[:depth])
            item = state.folder_state(path)
            if item is None:
                continue
            has = judge(MODELS[state.model].parse(item.body), ItemContext(item.owner, True), one.holder).rights
            if has & Right.ENTER:
                continue
            try:
                after = with_holder(state.model, item, whom, has | Right.ENTER)
            except StepError:
                continue
            step = ListStep(self.address.system, path, state.model, item, after)
            step.apply(state)
            found.append([step])
        return found


class _Entries:
    """The office with entries of their own for everybody who is looked at, as far as they can be made.

    One person's entry is no matter of another's: all stand in one office.
    """

    def __init__(self, finder: WayFinder, shared: Sequence[Change], wanted: Mapping[str, Right | None]) -> None:
        self._finder, self.shared, self._wanted = finder, shared, wanted
        self._steps = [step for change in shared for step in change.steps]
        self._offices: dict[str, Office | None] = {"": imagined_office(finder.office, self._steps)}
        self._counts: dict[tuple[str, str], int] = {}
        self._rights: dict[str, Right] = {}

    def office(self, entry: str) -> Office | None:
        """Return the office with entries; None where nobody can have one."""
        if entry not in self._offices:
            self._offices[entry] = self._make(entry)
        return self._offices[entry]

    def count(self, entry: str, person: str) -> int | None:
        """Return how many changes somebody's entries are; None where they can have none."""
        return 0 if not entry else self._counts.get((entry, person))

    def _make(self, entry: str) -> Office | None:
        finder = self._finder
        if entry == _THROUGH and not finder.reader.terms.asks_enter:
            return None
        state = ImaginedReader(finder.reader)
        steps: list[Step] = list(self._steps)
        for step in steps:
            if step.system == finder.address.system:
                step.apply(state)
        for person in self._wanted:
            changes = finder.entry_changes(state, person, entry, self.rights(person))
            if changes:
                self._counts[entry, person] = len(changes)
                steps += [step for change in changes for step in change]
        return imagined_office(finder.office, steps) if any(one == entry for one, _ in self._counts) else None

    def rights(self, person: str) -> Right:
        """Return what an entry of somebody's is to give: what is wanted, or what they had."""
        if person not in self._rights:
            wanted = self._wanted[person]
            self._rights[person] = self._had(person) if wanted is None else wanted
        return self._rights[person]

    def _had(self, person: str) -> Right:
        finder = self._finder
        trials = trials_of(person, finder.people.get(person, []), finder.reader.found_accounts, (), 0)
        judged = judge_trials(finder.office, finder.office, finder.address, trials)
        return judged[0].has if judged else Right.NONE


def _is_right(judged: Judged, wanted: Right | None) -> bool:
    if judged.elsewhere:
        return False
    return not judged.within if wanted is None else judged.is_as(wanted)


def _choose(of: int, some: int) -> int:
    found = 1
    for number in range(some):
        found = found * (of - number) // (number + 1)
    return max(found, 1)


_GATES = {
    "account": "an account that is not open",
    "service": "the service, which is off for them,",
    "entitlement": "a licence that they lack",
    "share": "the permission of the share",
    "enter": "a folder above",
}
