"""What every list model offers.

A *body* is the stored form of one list: everything that decides for people who do not own the item
(for a POSIX list the mode bits, the owning group and the entries). The owner is kept apart from the
body, since a thousand lists with three hundred owners would else be three hundred thousand lists.

The same rule is asked in two ways that must agree: `decide` for one holder, with its reasons, and
`decide_all` for a crowd.
"""

from __future__ import annotations

from dataclasses import dataclass
from enum import Enum
from typing import Protocol

from neatledger.core.holders import Crowd, Holder
from neatledger.core.rights import Right

__all__ = ["Decision", "Effect", "ListModel", "ListView", "Reason", "RightSets", "Standing"]


class Effect(Enum):
    """What an entry did to the rights in question."""

    GRANTS = "grants"
    LIMITS = "limits"
    STOPS = "stops"


@dataclass(frozen=True, slots=True)
class Reason:
    """One entry of a list and what it did; `entry` is the entry's text, `because` why it applies."""

    effect: Effect
    entry: str
    rights: Right
    because: str


@dataclass(frozen=True, slots=True)
class Decision:
    """The rights that a list lets through, with the entries that made it so."""

    rights: Right
    reasons: tuple[Reason, ...]


@dataclass(frozen=True, slots=True)
class Standing:
    """Where a list stands: who owns its item, and whether that is a folder."""

    owner: str
    is_folder: bool


RightSets = dict[Right, int]
"""For every single right the bit set of the holders who have it."""


@dataclass(frozen=True, slots=True)
class ListView:
    """What the checks want to know of a list, whatever its model.

    `users` and `groups` are the identifiers granted by name with what each gets; `everyone` is what the
    list gives to all; `is_plain` says that it holds no more than the system's own default form, and
    `is_sticky` that people may remove only what they own.
    """

    users: dict[str, Right]
    groups: dict[str, Right]
    everyone: Right
    is_plain: bool
    is_sticky: bool


class ListModel(Protocol):
    """The contract of one list model; bodies are parsed once and then asked many times."""

    name: str

    def parse(self, body: bytes) -> object:
        """Make the model's own list from its stored body; raises `FormatError`."""

    def decide(self, parsed: object, standing: Standing, holder: Holder) -> Decision:
        """Decide for one holder, with reasons."""

    def decide_all(self, parsed: object, crowd: Crowd, *, is_folder: bool, as_owner: bool) -> RightSets:
        """Decide for a crowd, none of whom owns the item or, with `as_owner`, each as if owning it."""

    def overrides(self, holder: Holder) -> Right:
        """Return the rights that a holder's role gives whatever the lists say."""

    def describe(self, parsed: object) -> list[str]:
        """Return the list's text form, an entry a line."""

    def view(self, parsed: object, *, is_folder: bool) -> ListView:
        """Return what the checks want to know."""
