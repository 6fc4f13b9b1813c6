"""What a step is, and what it is applied to.

A *step* is one change of one thing on one system: what the thing is, how it is before and how it is after. It can be
applied to a *state* (a system as it was found, or would be), turned round (`inverse`), and put into words. A step
that finds the thing otherwise than `before` says does not fit, and changes nothing (`StepError`).

Laws, for every kind: what fits can be applied; after it, its inverse fits; both together leave the state as it was;
and `of_facts(to_facts)` is the step itself.
"""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass
from typing import Any, ClassVar, Protocol, Self

from neatledger.core.lists.contract import Names
from neatledger.core.survey.accounts import Account, Group
from neatledger.core.survey.shared import Shared
from neatledger.core.tree.address import Address
from neatledger.errors import StepError

__all__ = ["FileSort", "ItemState", "State", "Step", "folders_from", "misfit"]


@dataclass(frozen=True, slots=True)
class ItemState:
    """What decides about a folder: its owner, the body of its list, and that of its default list where it has one."""

    owner: str
    body: bytes
    default: bytes | None = None

    def to_facts(self) -> dict[str, Any]:
        """Return values of JSON."""
        default = None if self.default is None else self.default.hex()
        return {"owner": self.owner, "list": self.body.hex(), "default": default}

    @classmethod
    def of_facts(cls, facts: Mapping[str, Any]) -> ItemState:
        """Return what `to_facts` made."""
        default = facts.get("default")
        return cls(facts["owner"], bytes.fromhex(facts["list"]), None if default is None else bytes.fromhex(default))


@dataclass(frozen=True, slots=True)
class FileSort:
    """What decides about files: owner and the body of the list. Those of a folder alike in both are one sort."""

    owner: str
    body: bytes


class State(Protocol):
    """A system as steps see and change it; paths are below its root, and only folders that were counted are known.

    `accounts`, `groups`, `shared` and `facts` (see `SystemTerms.of_facts`; limits are among them) are replaced whole.
    """

    system: str
    accounts: list[Account]
    groups: list[Group]
    facts: dict[str, Any]
    shared: Shared | None

    def folder_state(self, path: bytes) -> ItemState | None:
        """Return what decides about a folder; None where there is none of this path."""

    def put_folder(self, path: bytes, item: ItemState) -> None:
        """Let other things decide about a folder that is there."""

    def make_folder(self, path: bytes, item: ItemState | None) -> None:
        """Make an empty folder in one that is there, or (None) take such a one away."""

    def subfolders(self, path: bytes) -> Iterable[bytes]:
        """Return the paths of the folders right below one."""

    def file_sorts(self, path: bytes) -> Mapping[FileSort, int]:
        """Return how many files of a folder there are of each sort."""

    def put_files(self, path: bytes, before: FileSort, after: FileSort, files: int) -> bool:
        """Make so many files of one sort in a folder into another; false where it is not told which."""


def folders_from(state: State, path: bytes) -> Iterator[tuple[bytes, ItemState]]:
    """Yield a folder and all below it, each before what lies in it, as each stands when it is come to."""
    waiting = [path]
    while waiting:
        path = waiting.pop()
        item = state.folder_state(path)
        if item is not None:
            yield path, item
            waiting += state.subfolders(path)


def misfit(step: Step, found: str) -> StepError:
    """Return the error of a step that does not fit: what was found in place of what it expects."""
    return StepError(f"this step no longer fits: {found}", step.where, "count, and ask again")


@dataclass(frozen=True, slots=True)
class Step(ABC):
    """One change of one thing on one system."""

    kind: ClassVar[str]
    system: str

    @property
    @abstractmethod
    def target(self) -> str:
        """What is changed, in words; steps of one kind with one target change the same thing."""

    @property
    def where(self) -> str:
        """The system and what is changed there, as an error names it."""
        return f"{self.system}: {self.target}"

    @property
    def place(self) -> Address | None:
        """The folder that it is of; None where it is of no folder."""
        return None

    @abstractmethod
    def apply(self, state: State) -> None:
        """Make the change in a state; raises `StepError`, and changes nothing, where it does not fit."""

    @abstractmethod
    def inverse(self) -> Step:
        """Return the step that takes this one back."""

    @abstractmethod
    def word(self, names: Names) -> str:
        """Say what to do, in one line."""

    @abstractmethod
    def to_facts(self) -> dict[str, Any]:
        """Return values of JSON, without kind and system."""

    @classmethod
    @abstractmethod
    def of_facts(cls, system: str, facts: Mapping[str, Any]) -> Self:
        """Return what `to_facts` made; raises `KeyError`, `TypeError` or `ValueError` where it is none."""
