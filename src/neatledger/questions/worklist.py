"""The worklist: steps in an order that harms nobody, each with what it does, what it ends, and who can make it."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from dataclasses import dataclass

from neatledger.core.lists.rights import Right
from neatledger.core.people.names import EntryNames
from neatledger.core.steps.contract import Step
from neatledger.core.steps.folders import PushStep
from neatledger.core.steps.lists import FilesStep, ListStep
from neatledger.core.tree.address import Address
from neatledger.errors import StepError, UnknownNameError
from neatledger.ledger.imagined import ImaginedReader
from neatledger.ledger.locations import find_location
from neatledger.questions.carrying import why_by_hand
from neatledger.questions.hard_names import why_of_several_names
from neatledger.questions.imagined import imagined_office
from neatledger.questions.mending import find_mending
from neatledger.questions.mending_left import Left
from neatledger.questions.mending_limits import stops_at_once
from neatledger.questions.office import Office
from neatledger.questions.ordering import Order, OrderedStep
from neatledger.questions.suppose_access import MadeChange, effects_of

__all__ = ["WorkItem", "Worklist", "ask", "ask_for_steps"]


@dataclass(frozen=True, slots=True)
class WorkItem:
    """One step of a worklist.

    `effects` is who gains and loses by it, after all before it; `harm` whom or what it harms, `refused` why it
    must not be made at all (empty: it may), `by_hand` why a person must make it (empty: the tool can). One that
    `waits` would harm somebody before a person has made another step. Those of one `group` hang together.
    """

    step: Step
    effects: Sequence[MadeChange]
    harm: str = ""
    refused: str = ""
    by_hand: str = ""
    waits: bool = False
    group: int = 0


@dataclass(frozen=True, slots=True)
class Worklist:
    """Steps in their order, and the differences that they leave with the reasons."""

    items: Sequence[WorkItem]
    left: Sequence[Left]
    then: Office

    def makeable(self) -> list[WorkItem]:
        """Return what the tool can make now."""
        return [one for one in self.items if not (one.by_hand or one.refused or one.waits)]

    def names(self, system: str) -> EntryNames:
        """Return the names of what stands in a system's lists before the steps, and after them."""
        reader = self.then.reader(system)
        imagined = self.then.imagined.get(system)
        sides = [reader] if imagined is None else [reader, imagined.found]
        accounts = {(one.ident, one.login): one for each in sides for one in each.accounts}
        groups = {(one.ident, one.name): one for each in sides for one in each.groups}
        return EntryNames(accounts.values(), groups.values(), reader.terms.model)


def ask(office: Office, below: Address | str | None = None, people: Collection[str] | None = None) -> Worklist:
    """Return the worklist that brings what was found to the plan, or some of it."""
    below = office.below(below)
    found = find_mending(office, below, people)
    work = _worklist(office, found.steps, found.left)
    misfits = [WorkItem(step, [], "", f"it does not fit: {why}") for step, why in found.misfits]
    return Worklist([*work.items, *misfits], work.left, work.then)


def ask_for_steps(office: Office, steps: Sequence[Step]) -> Worklist:
    """Return the worklist of steps that were supposed; raises `StepError` where one does not fit any more."""
    return _worklist(office, _spelled_out(office, steps), [])


def _spelled_out(office: Office, steps: Sequence[Step]) -> list[Step]:
    """Return steps with those that stand for many as these many."""
    states: dict[str, ImaginedReader] = {}
    found: list[Step] = []
    for step in steps:
        state = states.setdefault(step.system, ImaginedReader(office.reader(step.system)))
        parts: Sequence[Step] = step.parts(state) if isinstance(step, PushStep) else [step]
        for part in parts:
            part.apply(state)
            found.append(part)
    return found


_FEW, _SMALL = 60, 50_000


def _worklist(office: Office, steps: Sequence[Step], left: Sequence[Left]) -> Worklist:
    order = Order(office, steps)
    is_large = len(steps) > _FEW or sum(one.folders for one in office.count.surveys) > _SMALL
    if is_large:
        return _many(office, order, left)
    items: list[WorkItem] = []
    waiting = _Waiting(order)
    here = office
    for one in order.steps:
        try:
            then = imagined_office(here, [one.step])
        except StepError as error:
            items.append(WorkItem(one.step, [], one.harm, f"it hangs on a step that is not made: {error.what}"))
            continue
        refused = _why_refused(here, then, one.step)
        if refused:
            items.append(WorkItem(one.step, [], one.harm, refused))
            waiting.skip(one)
            continue
        by_hand = why_by_hand(office, one.step) or why_of_several_names(office, one.step)
        waits = waiting.take(one, bool(by_hand))
        harm = one.harm or stops_at_once(office, one.step)
        items.append(WorkItem(one.step, effects_of(here, then), harm, "", by_hand, waits, one.group[0]))
        here = then
    return Worklist(items, left, here)


class _Waiting:
    """Which steps wait for a person: of those that hang together, what would harm somebody before that."""

    def __init__(self, order: Order) -> None:
        self._order = order
        self._made: list[int] = []
        self._gaps: set[tuple[int, ...]] = set()

    def skip(self, one: OrderedStep) -> None:
        """Take note of a step that is not made."""
        self._gaps.add(one.group)

    def take(self, one: OrderedStep, by_hand: bool) -> bool:
        """Tell whether a step waits, and take note of it."""
        waits = not by_hand and one.group in self._gaps and not self._order.may_leave_out(one, self._made)
        if by_hand or waits:
            self._gaps.add(one.group)
        else:
            self._made.append(one.number)
        return waits


def _many(office: Office, order: Order, left: Sequence[Left]) -> Worklist:
    """Return the worklist of many steps: what all do is worked out at once, and told to the step it hangs on."""
    waiting = _Waiting(order)
    then = order.then
    effects: dict[int, list[MadeChange]] = {}
    owners = _Owners(order)
    for change in effects_of(office, then):
        effects.setdefault(owners.of(change), []).append(change)
    items = []
    for one in order.steps:
        refused = ""
        if _may_lock_out(one.step):
            # Judged by the end of all: what one of them takes another one may give back.
            refused = _why_refused(office, then, one.step)
        if refused:
            items.append(WorkItem(one.step, [], one.harm, refused))
            waiting.skip(one)
            continue
        by_hand = why_by_hand(office, one.step) or why_of_several_names(office, one.step)
        waits = waiting.take(one, bool(by_hand))
        harm = one.harm or stops_at_once(office, one.step)
        items.append(WorkItem(one.step, effects.get(one.number, []), harm, "", by_hand, waits, one.group[0]))
    return Worklist(items, left, then)


def _may_lock_out(step: Step) -> bool:
    """Tell whether a step could leave something without anybody who manages it; most could not."""
    if isinstance(step, ListStep) and step.model == "posix":
        # There the owner manages, whatever the list says.
        return step.before.owner != step.after.owner
    return not isinstance(step, FilesStep)


class _Owners:
    """Finds the step on which a change hangs: the nearest above that concerns the person, else one of no place."""

    def __init__(self, order: Order) -> None:
        self._order = order
        self._at: dict[Address, list[int]] = {}
        self._others: list[int] = []
        for one in order.steps:
            if one.step.place is None:
                self._others.append(one.number)
            else:
                self._at.setdefault(one.step.place, []).append(one.number)

    def of(self, change: MadeChange) -> int:
        """Return the number of the step."""
        system, path = change.address.system, change.address.path
        while True:
            for number in self._at.get(Address(system, path), ()):
                if self._order.concerns(number, change.person):
                    return number
            if path == b"/":
                break
            path = path.rpartition(b"/")[0] or b"/"
        found = [number for number in self._others if self._order.concerns(number, change.person)]
        return found[0] if found else self._order.steps[0].number


# What must never be made ----------------------------------------------------------------------------------


def _why_refused(before: Office, after: Office, step: Step) -> str:
    """Say why a step must not be made: it would lock the last one out; nothing where it may be."""
    system = step.system
    admins = [_administrators(each, system) for each in (before, after)]
    if admins[0] and not admins[1]:
        return f"it would leave {system} without an administrator: {', '.join(sorted(admins[0]))} is the last"
    reader = _reading_account(before, system)
    if reader and _is_in(before, system, reader) and not _is_in(after, system, reader):
        return f"it would shut out {reader}, which reads {system} for the ledger"
    if step.place is not None and not admins[1]:
        managers = [_managers(each, step.place) for each in (before, after)]
        if managers[0] and not managers[1]:
            return f"nobody could manage the folder any more: {', '.join(sorted(managers[0]))} is the last"
    return ""


def _administrators(office: Office, system: str) -> set[str]:
    overrides = office.readers[system].terms.model.overrides
    return {
        one.account.login
        for one in office.systems.holders[system]
        if one.may_come_in and overrides(one.holder) is not None
    }


def _reading_account(office: Office, system: str) -> str:
    planned = office.plan.systems.get(system)
    return str(planned.settings.get("user", "")) if planned else ""


def _is_in(office: Office, system: str, login: str) -> bool:
    return any(one.account.login == login and one.may_come_in for one in office.systems.holders[system])


def _managers(office: Office, place: Address) -> set[str]:
    try:
        location = find_location(office.readers[place.system], place)
    except UnknownNameError:
        return set()
    return {
        person
        for person, principals in office.people_on(place.system).items()
        if office.systems.access(location, principals).rights & Right.MANAGE
    }
