"""The fewest changes that give people what is wanted on a folder, and nothing else to anybody.

A *change* is one membership made or ended, or one entry set: on the folder (with all below it), or on a folder above
to let somebody through. First all ways are looked at that consist of changes of one person's own: what they have
hangs on their memberships and entries alone. Then whether an entry of a group, or a group put into another one,
spares some of these. Of ways with as few changes that with fewer entries is taken. What comes of it is worked out
once more on the whole office, as for anything that is supposed.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from itertools import combinations

from neatledger.core.lists.rights import Right
from neatledger.core.people.principals import Principal, is_held_by
from neatledger.core.plan.plan import CLASSES, Kind, Plan
from neatledger.core.steps.contract import Step
from neatledger.core.tree.address import Address
from neatledger.ledger.imagined import ImaginedReader
from neatledger.ledger.locations import unknown_folder
from neatledger.questions.beside import changes_between
from neatledger.questions.imagined import imagined_office
from neatledger.questions.office import Office
from neatledger.questions.suppose_access import MadeChange, effects_of
from neatledger.questions.wanting import Change, Way, WayFinder

__all__ = ["Cannot", "Change", "Wanted", "ask", "people_meant"]

_MOST_SHARED, _MOST_PAIRED = 400, 12


@dataclass(frozen=True, slots=True)
class Cannot:
    """Somebody whom nothing gives what is wanted, and why."""

    person: str
    why: str


@dataclass
class Wanted:
    """The changes; what comes of them for those who were named, and what else; and whom nothing helps.

    `tried` sets of changes were looked at; `is_whole` tells whether these were all with as few as were found. `then`
    is the office after the changes.
    """

    address: Address
    changes: list[Change] = field(default_factory=list)
    effects: list[MadeChange] = field(default_factory=list)
    beside: list[MadeChange] = field(default_factory=list)
    cannot: list[Cannot] = field(default_factory=list)
    already: list[str] = field(default_factory=list)
    tried: int = 0
    is_whole: bool = True
    then: Office | None = None

    @property
    def steps(self) -> list[Step]:
        """All steps, in the order in which they are to be made."""
        return [step for change in self.changes for step in change.steps]

    @property
    def is_exact(self) -> bool:
        """Tell whether it gives just what is wanted, and nobody anything else."""
        return not self.beside and not self.cannot


def ask(office: Office, address: Address | str, wishes: Mapping[str, Right]) -> Wanted:
    """Return the fewest changes that give people (by id) these rights on a folder; raises `UnknownNameError`."""
    address = office.address(address)
    if ImaginedReader(office.reader(address.system)).folder_state(address.path) is None:
        raise unknown_folder(office.reader(address.system), address, "folder")
    return _Seeker(office, address, dict(wishes)).seek()


@dataclass(frozen=True, slots=True)
class _Choice:
    """Changes that several share, and for everyone whom they or the wishes concern their own way (None: none)."""

    shared: tuple[Change, ...]
    ways: Mapping[str, Way | None]

    @property
    def cost(self) -> tuple[int, int, int]:
        """For how many there is no way; how many changes; how many of them are entries."""
        lacking = sum(one is None for one in self.ways.values())
        mine = [one.cost for one in self.ways.values() if one is not None]
        changes = len(self.shared) + sum(one[0] for one in mine)
        return lacking, changes, sum(one.is_entry for one in self.shared) + sum(one[1] for one in mine)


class _Seeker:
    def __init__(self, office: Office, address: Address, wishes: dict[str, Right]) -> None:
        self.office, self.address = office, address
        self.finder = WayFinder(office, address)
        self.found = Wanted(address)
        self.asked = self._sort_out(wishes)
        self._last_helped = 0

    def _sort_out(self, wishes: Mapping[str, Right]) -> dict[str, Right]:
        """Return the wishes that changes could fulfil; of the others it is said why not."""
        asked = {}
        people = self.office.people_on(self.address.system)
        overrides = self.office.readers[self.address.system].terms.model.overrides
        for person, rights in wishes.items():
            principals = people.get(person, [])
            if not principals and not rights:
                self.found.already.append(person)
            elif not principals:
                self.found.cannot.append(Cannot(person, f"they have no account on {self.address.system}"))
            elif any(overrides(one.holder) is not None for one in principals):
                self.found.cannot.append(Cannot(person, "they are an administrator: their role opens everything"))
            elif rights and not any(one.may_come_in for one in principals):
                self.found.cannot.append(Cannot(person, "their account cannot be used there"))
            else:
                asked[person] = rights
        return asked

    def seek(self) -> Wanted:
        """Look for the fewest changes."""
        best = self._alone((), dict(self.asked))
        self.found.already += [one for one, way in best.ways.items() if way is not None and not way.cost[0]]
        for shared in self._shared(best):
            choice = self._with(shared, best)
            if choice is not None and choice.cost < best.cost:
                best = choice
        if best.cost[0]:
            best = self._nearest(best)
        self._tell(best)
        return self.found

    def _alone(self, shared: tuple[Change, ...], wanted: Mapping[str, Right | None]) -> _Choice:
        """Return the best own way of everybody, the changes that are shared being made already."""
        return _Choice(shared, self.finder.ways(shared, wanted))

    # Changes that several share ---------------------------------------------------------------------

    def _shared(self, best: _Choice) -> Iterable[tuple[Change, ...]]:
        """Yield changes that might spare several people's own ones, then two of them together."""
        needing = [person for person, way in best.ways.items() if way is None or way.cost[0]]
        # Who needs more than two changes, or finds no way, may come in by a group that gives nobody anything yet.
        costs = [99 if (way := best.ways[one]) is None else way.cost[0] for one in needing]
        is_hard = max(costs, default=0) > 2
        if not is_hard and len(needing) < 2:
            return
        some = self.finder.shared_changes(needing, {self.asked[one] for one in needing}, 0 if is_hard else 2)
        if len(some) > _MOST_SHARED:
            self.found.is_whole = False
        helpful = []
        for one in some[:_MOST_SHARED]:
            yield (one,)
            if self._last_helped > 1:
                helpful.append(one)
        if len(helpful) > _MOST_PAIRED:
            self.found.is_whole = False
        for first, second in combinations(helpful[:_MOST_PAIRED], 2):
            if self.finder.go_together(first, second):
                yield first, second

    def _with(self, shared: tuple[Change, ...], best: _Choice) -> _Choice | None:
        """Return the best choice with some shared changes; None where it cannot be better than what is known."""
        self._last_helped = 0
        then = imagined_office(self.office, _steps(shared))
        touched = {one.change.person for one in changes_between(self.office, then)}
        wanted: dict[str, Right | None] = dict(self.asked)
        wanted |= dict.fromkeys(sorted(touched - wanted.keys()))
        open_ones = self.finder.unsatisfied(then, wanted)
        before = sum(way is None or way.cost[0] > 0 for way in best.ways.values())
        self._last_helped = before - sum(one in self.asked for one in open_ones)
        # Everybody who does not have by now what they should needs a change of their own at least.
        least = 0, len(shared) + len(open_ones), sum(one.is_entry for one in shared)
        return self._alone(shared, wanted) if least < best.cost else None

    # What comes of it -------------------------------------------------------------------------------

    def _nearest(self, best: _Choice) -> _Choice:
        """Return a choice with ways that do more than is wanted, the least that there is, where none is exact."""
        ways: dict[str, Way | None] = dict(best.ways)
        for person, way in best.ways.items():
            if way is None:
                ways[person] = near = self.finder.nearest(person)
                if near is None:
                    self.found.cannot.append(Cannot(person, self.finder.why_not(person)))
        return _Choice(best.shared, ways)

    def _tell(self, best: _Choice) -> None:
        self.found.changes = self.finder.changes(best.shared, best.ways)
        self.found.tried = self.finder.tried
        self.found.is_whole &= self.finder.is_whole
        self.found.then = imagined_office(self.office, self.found.steps)
        for one in effects_of(self.office, self.found.then):
            is_meant = one.person in self.asked and self._shows(one.address).is_within(self.address)
            (self.found.effects if is_meant else self.found.beside).append(one)

    def _shows(self, address: Address) -> Address:
        """Return the folder of a share that a team folder shows there; else the folder itself."""
        service = self.office.systems.service(address.system)
        for team in service.shared.teams if service is not None else ():
            if team.over is not None and address.is_within(Address(address.system, team.path)):
                return team.beneath(address.path) or address
        return address


def _steps(changes: Sequence[Change]) -> list[Step]:
    return [step for change in changes for step in change.steps]


def people_meant(office: Office, system: str, who: str) -> list[str]:
    """Return the people that a word of a wish stands for: a person, a group of the plan or the system, a class.

    Raises `UnknownNameError`.
    """
    plan, people = office.plan, office.people_on(system)
    if who in plan.groups or who in CLASSES:
        kinds = {person: mine[0] for person, mine in people.items()}
        return [one for one in dict.fromkeys([*people, *plan.people]) if _is_of(plan, who, one, kinds.get(one))]
    named = next((one for one in office.reader(system).groups if who in (one.name, f"{system}:{one.name}")), None)
    if named is not None and who not in plan.people:
        return [one for one, mine in people.items() if any(named.ident in each.holder.groups for each in mine)]
    return [office.find_person(who).id]


def _is_of(plan: Plan, who: str, person: str, principal: Principal | None) -> bool:
    if principal is not None and (principal.kind is Kind.SERVICE or not principal.is_planned) and who != "services":
        # Who is not in the plan is in no class of it but everyone, and services are asked for by name.
        return who == "everyone" and principal.kind is not Kind.SERVICE
    return plan.is_holder(who, person) if principal is None else is_held_by(plan, who, principal)
