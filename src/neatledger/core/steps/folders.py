"""Steps on the tree: a folder made with its list from the first moment, and a list pushed down over all below."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace
from typing import Any, ClassVar, Self

from neatledger.core.lists.contract import Names
from neatledger.core.lists.table import MODELS
from neatledger.core.steps.contract import FileSort, ItemState, State, Step, misfit
from neatledger.core.steps.lists import FilesStep, ListStep, TreeStep, files_steps
from neatledger.errors import StepError

__all__ = ["FolderStep", "PushStep"]


@dataclass(frozen=True, slots=True)
class FolderStep(TreeStep):
    """A folder: made with what decides about it (`made`), or an empty one taken away."""

    kind: ClassVar[str] = "folder"
    item: ItemState
    made: bool = True

    def apply(self, state: State) -> None:
        """Set it in a state."""
        found = state.folder_state(self.path)
        if self.made:
            if found is not None:
                raise misfit(self, "there is a folder of this name")
            if state.folder_state(self.path.rpartition(b"/")[0] or b"/") is None:
                raise misfit(self, "the folder that it would lie in is not there")
        elif found != self.item:
            raise misfit(self, "the folder is not there" if found is None else "its owner or its list is another one")
        elif list(state.subfolders(self.path)) or state.file_sorts(self.path):
            raise misfit(self, "the folder is not empty any more")
        state.make_folder(self.path, self.item if self.made else None)

    def inverse(self) -> FolderStep:
        """Return the step that takes it back."""
        return replace(self, made=not self.made)

    def word(self, names: Names) -> str:
        """Say what to make, and who gets what there."""
        if not self.made:
            return "remove the empty folder"
        given = ", ".join(MODELS[self.model].parse(self.item.body).describe(names))
        return f"make the folder, owned by {names.holder(self.item.owner)}, with the list: {given}"

    def to_facts(self) -> dict[str, Any]:
        """Return values of JSON."""
        return {**self._place_facts(), "item": self.item.to_facts(), "made": self.made}

    @classmethod
    def of_facts(cls, system: str, facts: Mapping[str, Any]) -> Self:
        """Return what `to_facts` made."""
        return cls(system, *cls._place_of(facts), ItemState.of_facts(facts["item"]), bool(facts["made"]))


@dataclass(frozen=True, slots=True)
class PushStep(TreeStep):
    """A folder's list pushed down over all that lies below it; with `keeps_own` own entries below stay.

    It has no inverse of its own: what it is made of (`parts`) has, and whoever carries it out makes those.
    """

    kind: ClassVar[str] = "push"
    keeps_own: bool = False

    @property
    def target(self) -> str:
        """The folder's path, and that it is of what lies below."""
        return f"{self._folder} (all below)"

    def parts(self, state: State) -> list[ListStep | FilesStep]:
        """Return the steps that it is made of, each folder before what lies in it; raises `StepError`."""
        top = state.folder_state(self.path)
        model = MODELS[self.model]
        if top is None:
            raise misfit(self, "the folder is not there")
        if model.has_defaults and top.default is None:
            message = "the folder passes no list on: it has none for what is made in it"
            raise StepError(message, self.where, "set one first")
        found: list[ListStep | FilesStep] = []
        waiting = [(self.path, top)]
        while waiting:
            path, here = waiting.pop()
            passes = here.body if here.default is None else here.default
            then = {
                sort: FileSort(
                    sort.owner,
                    model.pushed(passes, sort.body, sort.owner, keeps_own=self.keeps_own, is_folder=False),
                )
                for sort in state.file_sorts(path)
            }
            found += files_steps(self.system, path, self.model, state.file_sorts(path), then)
            for below in state.subfolders(path):
                before = state.folder_state(below)
                assert before is not None
                body = model.pushed(passes, before.body, before.owner, keeps_own=self.keeps_own, is_folder=True)
                after = ItemState(before.owner, body, here.default)
                if after != before:
                    found.append(ListStep(self.system, below, self.model, before, after))
                waiting.append((below, after))
        return found

    def apply(self, state: State) -> None:
        """Set all of it in a state."""
        for part in self.parts(state):
            part.apply(state)

    def inverse(self) -> Step:
        """Raise: what it is made of has inverses."""
        raise StepError("a push is taken back by what it was made of", self.where)

    def word(self, names: Names) -> str:
        """Say what to push."""
        return "push its list down to all below" + (", own entries there stay" if self.keeps_own else "")

    def to_facts(self) -> dict[str, Any]:
        """Return values of JSON."""
        return {**self._place_facts(), "keeps_own": self.keeps_own}

    @classmethod
    def of_facts(cls, system: str, facts: Mapping[str, Any]) -> Self:
        """Return what `to_facts` made."""
        return cls(system, *cls._place_of(facts), bool(facts["keeps_own"]))
