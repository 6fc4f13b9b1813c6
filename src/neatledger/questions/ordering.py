"""The steps of a worklist in an order that harms nobody: whose rights hang on which step, by which hinges."""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass, replace
from itertools import pairwise

from neatledger.core.steps.contract import Step
from neatledger.core.steps.folders import FolderStep
from neatledger.core.steps.hinges import Cell, Ground, find_hinges
from neatledger.core.steps.limits import LimitStep
from neatledger.core.steps.lists import FilesStep, ListStep
from neatledger.core.steps.moved import MOVING
from neatledger.core.steps.needs import find_needs
from neatledger.core.steps.order import Direction, Harm, Hinge, HingedOrder, is_harmless, meeting_groups, try_out
from neatledger.core.tree.address import Address
from neatledger.core.tree.order import TreeOrder
from neatledger.core.tree.table import folder_paths
from neatledger.questions.imagined import imagined_office
from neatledger.questions.office import Office
from neatledger.questions.probing import Probed, for_a_while
from neatledger.questions.scoping import find_scopes, states_of

__all__ = ["Order", "OrderedStep"]


@dataclass(frozen=True, slots=True)
class OrderedStep:
    """A step in its place; `harm` says whom it harms for a while, `group` the numbers of all that it hangs with."""

    step: Step
    harm: str = ""
    number: int = 0
    group: tuple[int, ...] = ()


class Order:
    """Steps in an order that harms nobody, or says whom; raises `StepError` where one does not fit."""

    def __init__(self, office: Office, steps: Sequence[Step]) -> None:
        self._office, self._all = office, steps
        needs = find_needs(steps)
        self.then = imagined_office(office, _first_made(steps, needs))
        self.scopes = find_scopes(office, self.then, steps)
        groups = meeting_groups(self.scopes, needs)
        is_hinged = {number for group in groups if self._is_hinged(group) for number in group}
        self._tried: dict[tuple[int, ...], Probed] = {}
        self._orders: dict[str, TreeOrder] = {}
        harms: dict[int, Harm] = {}
        for group in groups:
            if self._is_tried(group) and not is_hinged.intersection(group):
                placed = try_out(group, self._prober(group))
                harms |= {one.number: one.harm for one in placed if one.harm is not None}
                for before, after in pairwise(placed):
                    needs.setdefault(after.number, set()).add(before.number)
        self._cells: dict[int, tuple[str, Cell]] = {}
        hinges = self._hinges([g for g in groups if self._is_tried(g) and is_hinged.issuperset(g)], needs)
        self._order = HingedOrder(range(len(steps)), hinges, needs)
        group_of = {number: tuple(group) for group in self._order.groups for number in group}
        group_of |= {number: group for group in self._tried for number in group}
        self.steps = [
            OrderedStep(
                steps[one.number],
                self._word_tried(harms[one.number], group_of[one.number])
                if one.number in harms
                else ""
                if one.harm is None
                else self._word(one.harm),
                one.number,
                group_of[one.number],
            )
            for one in self._order.arrange()
        ]

    def concerns(self, number: int, person: str) -> bool:
        """Tell whether a person's rights may hang on a step."""
        return person in self.scopes[number].people

    def may_leave_out(self, one: OrderedStep, made: Collection[int]) -> bool:
        """Tell whether a step harms nobody when of all steps only some were made before it."""
        probed = self._tried.get(one.group)
        if probed is None:
            return self._order.is_harmless(one.number, made)
        return is_harmless(probed, one.group, (*(number for number in made if number in one.group), one.number))

    def _is_tried(self, group: Sequence[int]) -> bool:
        direction = Direction.NOTHING
        for number in group:
            direction |= self.scopes[number].direction
        return len(group) > 1 and direction is Direction.BOTH

    def _is_hinged(self, group: Sequence[int]) -> bool:
        """Tell whether steps are of the kinds, and on a system, of which hinges can be told."""
        systems = {self._all[number].system for number in group}
        return (
            len(systems) == 1
            and all(isinstance(self._all[number], _HINGED) for number in group)
            and not any(self.scopes[number].cluster for number in group)
            and all(self._office.systems.service(name) is None for name in systems)
        )

    # By hinges --------------------------------------------------------------------------------------

    def _hinges(self, groups: Sequence[Sequence[int]], needs: dict[int, set[int]]) -> list[Hinge]:
        """Return the hinges of some groups of steps, system by system; `needs` are added to."""
        found: list[Hinge] = []
        of_system: dict[str, list[int]] = {}
        for group in groups:
            of_system.setdefault(self._all[group[0]].system, []).extend(group)
        for system, numbers in of_system.items():
            steps = {number: self._all[number] for number in numbers}
            made = [step for step in steps.values() if isinstance(step, FolderStep) and step.made]
            base = imagined_office(self._office, made) if made else self._office
            reader = base.readers[system]
            tables = reader.table("folders"), reader.table("classes")
            ground = Ground(*tables, reader.strings("lists.body"), reader.idents(), reader.terms)
            states = states_of(self._office, self.then, system, steps.values())
            people = {number: self.scopes[number].people for number in numbers}
            hinges = find_hinges(ground, steps, people, states)
            first = len(self._cells)
            path_of = folder_paths(reader.table("folders"))
            for place, cell in enumerate(hinges.cells):
                self._cells[first + place] = str(Address(system, path_of(cell.row))), cell
            found += [replace(one, places=[first + place for place in one.places]) for one in hinges.hinges]
            for number, others in hinges.needs.items():
                needs.setdefault(number, set()).update(others)
        return found

    def _word(self, harm: Harm) -> str:
        """Say whom a step harms for a while."""
        parts = []
        for cells, verb in ((harm.extra, "has"), (harm.missing, "lacks")):
            if cells:
                place, flags = cells[0]
                where, cell = self._cells[place]
                more = sum(self._cells[other][1].number for other, _ in cells) - 1
                parts.append(for_a_while(cell.person, verb, flags, where, cell.is_files, more))
        return "; ".join(parts)

    # By trying --------------------------------------------------------------------------------------

    def _prober(self, group: Sequence[int]) -> Probed:
        """Return what tells the rights of those concerned by some steps."""
        scopes = [self.scopes[number] for number in group]
        made = [step for step in (self._all[number] for number in group) if isinstance(step, FolderStep)]
        found = self._tried[tuple(group)] = Probed(self._office, self._all, scopes, self._orders, made)
        return found

    def _word_tried(self, harm: Harm, group: tuple[int, ...]) -> str:
        probed = self._tried[group]
        parts = [probed.word(harm.extra, "has"), probed.word(harm.missing, "lacks")]
        return "; ".join(part for part in parts if part)


_HINGED = (ListStep, FilesStep, FolderStep, LimitStep, *MOVING)


def _first_made(steps: Sequence[Step], needs: Mapping[int, set[int]]) -> list[Step]:
    """Return steps in an order in which all fit that fit at all: what others need comes first."""
    placed = HingedOrder(range(len(steps)), [], needs).arrange()
    return [steps[one.number] for one in placed]
