"""Steps on what decides about a folder and its files: owner, group, list and default list, together in one step.

They are set together so that there is no moment with the old of one and the new of another, nor with neither.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace
from typing import Any, ClassVar, Self

from neatledger.core.lists.contract import EMPTY_LIST, Names
from neatledger.core.lists.table import MODELS
from neatledger.core.steps.contract import FileSort, ItemState, State, Step, misfit
from neatledger.core.tree.address import Address
from neatledger.errors import StepError

__all__ = ["FilesStep", "ListStep", "TreeStep", "files_steps", "list_changes"]


def list_changes(model: str, before: bytes, after: bytes, names: Names, *, is_folder: bool = True) -> list[str]:
    """Say which entries go, come and change, an entry a line; an order that alone differs is said as such."""
    old, new = (MODELS[model].parse(body).describe(names, is_folder=is_folder) for body in (before, after))
    gone, come = (
        # The mask only bounds what the others say, and is set with them; that a list is empty is no entry.
        [entry for entry in mine if entry not in theirs and entry != EMPTY_LIST and not entry.startswith("mask ")]
        for mine, theirs in ((old, new), (new, old))
    )
    fresh = {_parted(entry)[0]: entry for entry in come}
    lines = []
    for entry in gone:
        whom, what = _parted(entry)
        now = fresh.pop(whom, None)
        lines.append(f"take away: {entry}" if now is None else f"change: {whom}: {what} → {_parted(now)[1]}")
    lines += [f"give: {entry}" for entry in fresh.values()]
    if gone and new == [EMPTY_LIST]:
        lines.append("nobody is in it then")
    lines += _special_changes(before, after) if model == "posix" and is_folder else []
    if not lines and before != after:
        group = [MODELS[model].group_of(body) for body in (before, after)]
        lines = [f"owning group: {names.group(group[1])}" if group[0] != group[1] else "put its entries into order"]
    return lines


# The bits of a mode that are no entry's, and what they say of a folder (inode(7)).
_SPECIAL = {0o2000: ("what is made in it gets its group", "what is made in it gets its maker's group"),
            0o1000: ("only owners remove what is theirs", "whoever may write there removes anything")}  # fmt: skip


def _special_changes(before: bytes, after: bytes) -> list[str]:
    old, new = (int.from_bytes(body[:2], "little") for body in (before, after))
    return [words[not new & bit] for bit, words in _SPECIAL.items() if (old ^ new) & bit]


def _parted(entry: str) -> tuple[str, str]:
    """Return whom an entry speaks of, and what it says of them."""
    mark = entry.find(" [")
    entry, more = (entry, "") if mark < 0 else (entry[:mark], entry[mark:])
    whom, colon, what = entry.rpartition(": ")
    if not colon:
        mark = entry.find(" nothing (")
        whom, what = (entry[:mark], entry[mark + 1 :]) if mark >= 0 else entry.rpartition(" ")[::2]
    return whom + more, what


def _text(path: bytes) -> str:
    return path.decode("utf-8", "surrogateescape")


@dataclass(frozen=True, slots=True)
class TreeStep(Step):
    """A step on a folder, or on what lies in it, whose lists are of one model."""

    path: bytes
    model: str

    @property
    def _folder(self) -> str:
        return _text(self.path)

    @property
    def target(self) -> str:
        """The folder's path."""
        return self._folder

    @property
    def place(self) -> Address:
        """The folder."""
        return Address(self.system, self.path)

    def _place_facts(self) -> dict[str, Any]:
        return {"path": self._folder, "model": self.model}

    @staticmethod
    def _place_of(facts: Mapping[str, Any]) -> tuple[bytes, str]:
        """Return path and model of `_place_facts`; raises `ValueError` for a model that there is not."""
        if facts["model"] not in MODELS:
            raise ValueError(f"no list model is called {facts['model']!r}")
        return facts["path"].encode("utf-8", "surrogateescape"), facts["model"]


@dataclass(frozen=True, slots=True)
class ListStep(TreeStep):
    """What decides about one folder, whole: owner, list (with the owning group) and default list."""

    kind: ClassVar[str] = "list"
    before: ItemState
    after: ItemState

    def apply(self, state: State) -> None:
        """Set it in a state."""
        found = state.folder_state(self.path)
        if found is None:
            raise misfit(self, "the folder is not there")
        if found != self.before:
            raise misfit(self, "its owner or its list is another one")
        state.put_folder(self.path, self.after)

    def inverse(self) -> ListStep:
        """Return the step that sets it back."""
        return ListStep(self.system, self.path, self.model, self.after, self.before)

    def word(self, names: Names) -> str:
        """Say which entries go and which come."""
        return "; ".join(self.changes(names))

    def changes(self, names: Names) -> list[str]:
        """Say what is changed, a thing a line."""
        lines = []
        if self.before.owner != self.after.owner:
            lines.append(f"owner: {names.holder(self.after.owner)}")
        if self.before.body != self.after.body:
            lines += list_changes(self.model, self.before.body, self.after.body, names)
        if self.before.default != self.after.default:
            lines.append(self._default_change(names))
        return lines

    def _default_change(self, names: Names) -> str:
        if self.after.default is None:
            return "no list of its own for what is made in it"
        if self.before.default is None:
            described = MODELS[self.model].parse(self.after.default).describe(names)
            return f"for what is made in it: {', '.join(described)}"
        changes = list_changes(self.model, self.before.default, self.after.default, names)
        if changes == list_changes(self.model, self.before.body, self.after.body, names):
            return "the same for what is made in it"
        return f"for what is made in it {', '.join(changes)}"

    def to_facts(self) -> dict[str, Any]:
        """Return values of JSON."""
        before, after = self.before.to_facts(), self.after.to_facts()
        return {**self._place_facts(), "before": before, "after": after}

    @classmethod
    def of_facts(cls, system: str, facts: Mapping[str, Any]) -> Self:
        """Return what `to_facts` made."""
        before, after = (ItemState.of_facts(facts[name]) for name in ("before", "after"))
        return cls(system, *cls._place_of(facts), before, after)


@dataclass(frozen=True, slots=True)
class FilesStep(TreeStep):
    """What decides about all files right in a folder that have one owner and one list; `files` tells how many.

    A folder's files are kept by sort and not by name, so that this is one step for all of a sort. `beside` are other
    files that are of the sort before it, and after it, and stay as they are: two sorts may become one.
    """

    kind: ClassVar[str] = "files"
    before: FileSort
    after: FileSort
    files: int
    beside: tuple[int, int] = (0, 0)

    @property
    def target(self) -> str:
        """The folder's path, and that it is of files in it."""
        return f"{self._folder} (files)"

    def apply(self, state: State) -> None:
        """Set it in a state."""
        if state.folder_state(self.path) is None:
            raise misfit(self, "the folder is not there")
        sorts = state.file_sorts(self.path)
        found, wanted = sorts.get(self.before, 0), self.files + self.beside[0]
        if found != wanted or sorts.get(self.after, 0) != self.beside[1]:
            raise misfit(self, f"{found} files have that owner and list, and not {wanted}, or others have it by now")
        if not state.put_files(self.path, self.before, self.after, self.files):
            raise misfit(self, "a count does not tell which of the files are meant")

    def inverse(self) -> FilesStep:
        """Return the step that sets it back."""
        return replace(self, before=self.after, after=self.before, beside=self.beside[::-1])

    def word(self, names: Names) -> str:
        """Say which entries go and which come."""
        lines = list_changes(self.model, self.before.body, self.after.body, names, is_folder=False)
        if self.before.owner != self.after.owner:
            lines.insert(0, f"owner: {names.holder(self.after.owner)}")
        many = "its one file" if self.files == 1 else f"{self.files:,} files in it"
        return f"of {many}: {'; '.join(lines)}"

    def to_facts(self) -> dict[str, Any]:
        """Return values of JSON."""
        sorts = {
            name: {"owner": one.owner, "list": one.body.hex()}
            for name, one in (("before", self.before), ("after", self.after))
        }
        return {**self._place_facts(), **sorts, "files": self.files, "beside": list(self.beside)}

    @classmethod
    def of_facts(cls, system: str, facts: Mapping[str, Any]) -> Self:
        """Return what `to_facts` made."""
        before, after = (
            FileSort(facts[name]["owner"], bytes.fromhex(facts[name]["list"])) for name in ("before", "after")
        )
        own, others = facts.get("beside", (0, 0))
        files = int(facts["files"])
        return cls(system, *cls._place_of(facts), before, after, files, (int(own), int(others)))


def files_steps(
    system: str, path: bytes, model: str, sorts: Mapping[FileSort, int], then: Mapping[FileSort, FileSort]
) -> list[FilesStep]:
    """Return the steps that make the files of a folder, by sort, into other sorts (`then`); raises `StepError`.

    A sort that others become is left by its own files first; where two would change places, nobody could tell the
    files of the one from those of the other in between.
    """
    now = dict(sorts)
    waiting = {before: after for before, after in then.items() if before != after and now.get(before)}
    found: list[FilesStep] = []
    while waiting:
        before = next((one for one, after in waiting.items() if after not in waiting), None)
        if before is None:
            message = "files would change places with others: a person must name them"
            raise StepError(message, f"{system}: {_text(path)}")
        after = waiting.pop(before)
        files, others = now.pop(before), now.get(after, 0)
        found.append(FilesStep(system, path, model, before, after, files, (0, others)))
        now[after] = others + files
    return found
