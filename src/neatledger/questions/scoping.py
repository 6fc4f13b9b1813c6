"""What rights may hang on each step: whose, from which folders downwards, and which way it goes."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from dataclasses import replace
from datetime import date
from functools import cached_property

from neatledger.core.lists.doubt import judge_item
from neatledger.core.lists.holders import Crowd, Holder
from neatledger.core.lists.rights import Right
from neatledger.core.lists.table import MODELS
from neatledger.core.people.principals import FoundAccounts
from neatledger.core.steps.accounts import AccountStep, ServiceStep, WholeAccountStep
from neatledger.core.steps.contract import FileSort, ItemState, Step
from neatledger.core.steps.devices import DeviceStep
from neatledger.core.steps.folders import FolderStep
from neatledger.core.steps.groups import GroupStep
from neatledger.core.steps.hand_outs import HandOutStep
from neatledger.core.steps.limits import LimitStep
from neatledger.core.steps.links import LinkStep
from neatledger.core.steps.lists import FilesStep, ListStep
from neatledger.core.steps.members import MemberStep
from neatledger.core.steps.moved import StatesOf
from neatledger.core.steps.order import Direction, Scope
from neatledger.core.steps.shares import ShareStep
from neatledger.core.steps.teams import TeamStep
from neatledger.core.survey.accounts import AccountState
from neatledger.core.survey.shared import Link
from neatledger.errors import StepError
from neatledger.ledger.imagined import begin_imagining
from neatledger.questions.beside import changes_between, lies_over
from neatledger.questions.imagined import imagined_office
from neatledger.questions.office import Office

__all__ = ["find_scopes", "states_of"]

_Side = tuple[str, bytes]  # an owner and the body of a list


def find_scopes(office: Office, then: Office, steps: Sequence[Step]) -> list[Scope]:
    """Return what hangs on each of some steps; `then` is the office as it would be after all."""
    return _Scopes(office, then, steps).found


def states_of(office: Office, then: Office, system: str, steps: Iterable[Step]) -> StatesOf:
    """Return who the people of a system are on the way of some steps."""
    reader = office.readers[system]
    terms = reader.terms
    found = FoundAccounts(
        reader.accounts, reader.groups, terms.model.everyone_has, reader.facts.get("privileges", {})
    )
    states = StatesOf(found, office.systems.holders[system], then.systems.holders[system])
    states.know_of(steps)
    return states


class _Scopes:
    """Says whose rights hang on each step, from which folders downwards, and which way."""

    def __init__(self, office: Office, then: Office, steps: Sequence[Step]) -> None:
        self._office, self._then, self._steps = office, then, steps
        self._known_states: dict[str, StatesOf] = {}
        self._clusters: dict[str, str] = {}

    @cached_property
    def found(self) -> list[Scope]:
        """What hangs on each step."""
        return [replace(self._scope(step), cluster=self._cluster(step.system)) for step in self._steps]

    @cached_property
    def _variants(self) -> dict[str, list[tuple[str, list[Holder]]]]:
        """Return of every system each person's holders as they are before all steps and after."""
        found: dict[str, dict[str, set[Holder]]] = {}
        for side in (self._office, self._then):
            for system, principals in side.systems.holders.items():
                for one in principals:
                    found.setdefault(system, {}).setdefault(one.person, set()).add(one.holder)
        return {system: [(person, list(some)) for person, some in mine.items()] for system, mine in found.items()}

    def _cluster(self, system: str) -> str:
        """Return by what a system is known together with those whose rights it decides about."""
        if system not in self._clusters:
            over = [name for name in self._office.readers if lies_over(self._office, name, [system])]
            under = [name for name in self._office.readers if lies_over(self._office, system, [name])]
            self._clusters[system] = min([system, *over, *under]) if over or under else ""
        return self._clusters[system]

    def _scope(self, step: Step) -> Scope:
        match step:
            case ListStep():
                sides = _side(step.before), _side(step.after)
                people, direction = self._judged(step.system, step.model, *sides, is_folder=True)
                return Scope(step.system, people, (step.path,), direction)
            case FilesStep():
                sides = _side(step.before), _side(step.after)
                people, direction = self._judged(step.system, step.model, *sides, is_folder=False)
                return Scope(step.system, people, (step.path,), direction)
            case FolderStep():
                # Before it is made nobody has anything on it; who may remove it the folder above says.
                people, _ = self._judged(step.system, step.model, None, _side(step.item), is_folder=True)
                for above in self._states_above(step):
                    people |= self._judged(step.system, step.model, None, _side(above), is_folder=True)[0]
                direction = Direction.RAISES if step.made else Direction.LOWERS
                return Scope(step.system, people, (step.path,), direction, is_fixed=True)
            case LimitStep() | DeviceStep():
                return Scope(step.system, frozenset(), (b"/",), Direction.NOTHING)
            case AccountStep() | ServiceStep() | WholeAccountStep():
                return Scope(step.system, self._moved(step), (b"/",), _account_direction(step))
            case MemberStep() | GroupStep():
                # A refusal, or an entry that decides alone, turns round what a membership does after other steps.
                return Scope(step.system, self._moved(step), (b"/",), Direction.BOTH)
            case LinkStep() | HandOutStep():
                path = (step.before or step.after).path
                return Scope(step.system, self._everybody(step.system), (path,), _sharing_direction(step))
            case TeamStep():
                return Scope(step.system, self._everybody(step.system), (step.before.path,), _team_direction(step))
            case ShareStep():
                _, direction = self._tried(step)
                return Scope(step.system, self._everybody(step.system), (step.before.path,), direction)
            case _:
                people, direction = self._tried(step)
                return Scope(step.system, people, (b"/",), direction)

    def _states_above(self, step: FolderStep) -> Iterator[ItemState]:
        """Yield what decides about the folder that another lies in, before all steps and after."""
        for office in (self._office, self._then):
            above = begin_imagining(office.readers, office.imagined, step.system).folder_state(
                step.path.rpartition(b"/")[0] or b"/"
            )
            if above is not None:
                yield above

    def _everybody(self, system: str) -> frozenset[str]:
        return frozenset(person for person, _ in self._variants.get(system, ()))

    def _moved(self, step: Step) -> frozenset[str]:
        if step.system not in self._known_states:
            mine = (one for one in self._steps if one.system == step.system)
            self._known_states[step.system] = states_of(self._office, self._then, step.system, mine)
        people = self._known_states[step.system].people_of(step)
        services = (side.systems.service(step.system) for side in (self._office, self._then))
        # What these hand on hangs on them.
        return people.union(*(one.reached_from(people) for one in services if one is not None))

    @cached_property
    def _crowds(self) -> dict[str, tuple[list[str], Crowd]]:
        """Return of every system all holders at once, and whose each is."""
        found = {}
        for system, mine in self._variants.items():
            pairs = [(person, holder) for person, holders in mine for holder in holders]
            found[system] = [person for person, _ in pairs], Crowd([holder for _, holder in pairs])
        return found

    def _judged(
        self, system: str, model: str, before: _Side | None, after: _Side, *, is_folder: bool
    ) -> tuple[frozenset[str], Direction]:
        """Return to whom two lists give different things, as whoever they are before or after all steps.

        Without a list before, all that the other one gives.
        """
        if system not in self._crowds:
            return frozenset(), Direction.NOTHING
        people, crowd = self._crowds[system]
        old, new = (
            {} if one is None else judge_item(MODELS[model], *one, crowd, is_folder=is_folder)
            for one in (before, after)
        )
        changed, direction = 0, Direction.NOTHING
        for right in old.keys() | new.keys():
            had, has = old.get(right, 0), new.get(right, 0)
            if right is Right.UNSURE:
                changed |= had | has
                direction |= Direction.BOTH if had | has else Direction.NOTHING
                continue
            changed |= had ^ has
            direction |= Direction.RAISES if has & ~had else Direction.NOTHING
            direction |= Direction.LOWERS if had & ~has else Direction.NOTHING
        found = frozenset(people[place] for place in range(changed.bit_length()) if changed >> place & 1)
        return found, direction

    def _tried(self, step: Step) -> tuple[frozenset[str], Direction]:
        """Return what only trying a step tells: all on that system it concerns, at worst."""
        people = self._everybody(step.system)
        try:
            changes = changes_between(self._office, imagined_office(self._office, [step]))
        except StepError:
            return people, Direction.BOTH
        direction = Direction.NOTHING
        for one in changes:
            direction |= Direction.RAISES if one.change.gains else Direction.NOTHING
            direction |= Direction.LOWERS if one.change.loses else Direction.NOTHING
        return people, direction


def _side(one: ItemState | FileSort) -> _Side:
    return one.owner, one.body


def _account_direction(step: AccountStep | ServiceStep | WholeAccountStep) -> Direction:
    match step:
        case AccountStep():
            return Direction.RAISES if step.after is AccountState.OPEN else Direction.LOWERS
        case ServiceStep():
            return Direction.RAISES if step.after else Direction.LOWERS
        case WholeAccountStep():
            return Direction.RAISES if step.before is None else Direction.LOWERS


def _sharing_direction(step: LinkStep | HandOutStep) -> Direction:
    """Return which way a step goes on what is handed out: ended or begun, or what it gives made less."""
    before, after = step.before, step.after
    if after is None or (isinstance(after, Link) and not after.is_on):
        return Direction.LOWERS
    if before is None or (isinstance(before, Link) and not before.is_on):
        return Direction.RAISES
    days = [one.expires or date.max for one in (before, after)]
    is_less = not after.rights & ~before.rights and days[1] <= days[0]
    return Direction.LOWERS if is_less else Direction.BOTH


def _team_direction(step: TeamStep) -> Direction:
    """Return which way a step goes on a team folder, where it changes nothing but who is in it, and how."""
    before, after = step.before, step.after
    if replace(after, members=before.members) != before:
        return Direction.BOTH
    had, has = ({(one.is_group, one.holder): one.rights for one in side.members} for side in (before, after))
    direction = Direction.NOTHING
    for key in had.keys() | has.keys():
        old, new = had.get(key, Right.NONE), has.get(key, Right.NONE)
        direction |= Direction.RAISES if new & ~old else Direction.NOTHING
        direction |= Direction.LOWERS if old & ~new else Direction.NOTHING
    return direction
