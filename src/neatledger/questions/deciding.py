"""Decisions made into steps: one person's part in the lists of a folder and below, and nobody else's."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass

from neatledger.core.lists.rights import Right
from neatledger.core.lists.table import MODELS
from neatledger.core.people.principals import Principal
from neatledger.core.reviews.pack import Choice, Decision, PackRow
from neatledger.core.steps.contract import FileSort, ItemState, Step
from neatledger.core.steps.grants import passed_on
from neatledger.core.steps.lists import FilesStep, ListStep, files_steps
from neatledger.core.steps.narrowed import narrowed_item, rights_by_list
from neatledger.core.tree.address import Address
from neatledger.errors import StepError
from neatledger.formats.names import show_address
from neatledger.ledger.imagined import ImaginedReader
from neatledger.questions.deciding_shared import shared_steps
from neatledger.questions.mending_grants import members_of_groups
from neatledger.questions.office import Office

__all__ = ["Decided", "steps_for"]


@dataclass(frozen=True)
class Decided:
    """The steps that bring decisions about, and those that no step here does, each with why."""

    steps: tuple[Step, ...]
    by_hand: tuple[tuple[Decision, str], ...]


def steps_for(office: Office, decisions: Iterable[Decision], rows: Sequence[PackRow]) -> Decided:
    """Return the steps for what is not kept, the upper folders first; `rows` are all that the pack asked about.

    A decision holds for what lies below its folder too, until another row of the pack speaks of the same person.
    """
    going = [one for one in decisions if one.choice is not Choice.KEEP]
    maker = _Maker(office)
    by_hand: list[tuple[Decision, str]] = []
    for one in sorted(going, key=lambda each: (each.row.folder.system, each.row.folder.parts, each.row.person)):
        spoken = {row.folder for row in rows if row.person == one.row.person and row.folder != one.row.folder}
        try:
            by_hand += [(one, why) for why in maker.make(one, spoken)]
        except StepError as error:
            by_hand.append((one, error.what))
    return Decided(tuple(maker.steps), tuple(by_hand))


class _Maker:
    """Makes steps on the systems as they are after those made before."""

    def __init__(self, office: Office) -> None:
        self.office = office
        self.steps: list[Step] = []
        self._states: dict[str, ImaginedReader] = {}

    def make(self, decision: Decision, spoken: set[Address]) -> list[str]:
        """Make the steps of one decision, and say where further down none does it.

        Raises `StepError`, and makes none, where none does it on the folder itself.
        """
        row, system = decision.row, decision.row.folder.system
        if self.office.systems.service(system) is not None:
            self.steps += shared_steps(self.office, decision, self.steps)
            return []
        before = self._states.get(system)
        state = self._states[system] = ImaginedReader(self.office.reader(system)) if before is None else before.copy()
        people = self._people(system)
        if not any(one.person == row.person for one in people):
            self._restore(system, before)
            raise StepError("an administrator may do everything: no list takes that away")
        made: list[Step] = []
        try:
            left = self._folder(state, row.folder.path, decision, people, spoken, made)
        except StepError:
            self._restore(system, before)
            raise
        self.steps += made
        return left

    def _restore(self, system: str, before: ImaginedReader | None) -> None:
        if before is None:
            del self._states[system]
        else:
            self._states[system] = before

    def _people(self, system: str) -> list[Principal]:
        """Return all whom lists decide about: administrators may do everything anyhow."""
        model = self.office.readers[system].terms.model
        return [one for one in self.office.principals[system] if model.overrides(one.holder) is None]

    def _folder(
        self,
        state: ImaginedReader,
        top: bytes,
        decision: Decision,
        people: Sequence[Principal],
        spoken: set[Address],
        made: list[Step],
    ) -> list[str]:
        groups = members_of_groups(people, {one.ident: one.name for one in state.groups})
        is_change = decision.choice is Choice.CHANGE
        waiting, by_hand = [top], list[str]()
        while waiting:
            path = waiting.pop()
            if path != top and Address(state.system, path) in spoken:
                continue
            item, is_top = state.folder_state(path), path == top
            if item is None:
                if is_top:
                    raise StepError("the folder is not there any more")
                continue
            waiting += state.subfolders(path)
            try:
                owned = self._one(state, path, item, decision, people, groups, made, gives=is_top and is_change)
                where = show_address(Address(state.system, path))
                by_hand += [f"on {where}, {why}" for why in owned]
            except StepError as error:
                if is_top:
                    raise
                by_hand.append(f"below, on {show_address(Address(state.system, path))}, {error.what}")
        return by_hand

    def _one(
        self,
        state: ImaginedReader,
        path: bytes,
        item: ItemState,
        decision: Decision,
        people: Sequence[Principal],
        groups: Mapping[str, tuple[str, frozenset[str]]],
        made: list[Step],
        *,
        gives: bool,
    ) -> list[str]:
        """Make the steps on one folder and its files, and say what of the files no entry takes away.

        Further down nobody is given more than was there.
        """
        left = {decision.row.person: decision.left}
        after = narrowed_item(state.model, item, people, groups, left, gives=gives)
        found: list[ListStep | FilesStep] = []
        if after != item:
            found.append(ListStep(state.system, path, state.model, item, after))
            found += [] if MODELS[state.model].has_defaults else passed_on(state, path, state.model, after)
        self._apply(state, found, made)
        sorts = state.file_sorts(path)
        then, owned = {}, 0
        theirs = {one.account.ident for one in people if one.person == decision.row.person}
        for one in sorts:
            file = ItemState(one.owner, one.body)
            try:
                body = narrowed_item(state.model, file, people, groups, left, is_folder=False).body
            except StepError:
                if one.owner not in theirs:
                    raise
                # No entry takes from owners what is theirs.
                owned, body = owned + sorts[one], one.body
            then[one] = FileSort(one.owner, body)
        self._apply(state, files_steps(state.system, path, state.model, sorts, then), made)
        if not owned or not self._comes_in(state, path, people, decision.row.person):
            return []
        files = "one file" if owned == 1 else f"{owned:,} files"
        return [f"they own {files} and still come to the folder: give these another owner"]

    @staticmethod
    def _comes_in(state: ImaginedReader, path: bytes, people: Sequence[Principal], person: str) -> bool:
        """Tell whether somebody comes to what is in a folder, by what its list says by now."""
        item = state.folder_state(path)
        assert item is not None, "a step looks first"
        if not state.terms.asks_enter:
            return True
        mine = [one for one in people if one.person == person]
        return bool(rights_by_list(state.model, item, mine, is_folder=True)[person] & Right.ENTER)

    @staticmethod
    def _apply(state: ImaginedReader, steps: Sequence[Step], made: list[Step]) -> None:
        for step in steps:
            step.apply(state)
            made.append(step)
