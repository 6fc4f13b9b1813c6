"""What every list model offers.

A *body* is the stored form of one list: everything that decides for people who do not own the item
(for a POSIX list the mode bits, the owning group and the entries). The owner is kept apart from the
body, since a thousand lists with three hundred owners would else be three hundred thousand lists.

A model parses a body into an access list, which is then asked. The same rule is asked in two ways that must
agree: `decide` for one holder, with its reasons, and `decide_all` for a crowd. Reasons carry the entries themselves:
only whoever shows them puts them into words, with the names that a system has for its identifiers.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from enum import Enum
from typing import Protocol

from neatledger.core.lists.holders import Crowd, Holder
from neatledger.core.lists.rights import Right

__all__ = [
    "EMPTY_LIST",
    "AccessList",
    "Decision",
    "Effect",
    "Entry",
    "ItemContext",
    "ListEntry",
    "ListModel",
    "ListView",
    "Maker",
    "Names",
    "Reason",
    "RightSets",
    "word_entry",
]


EMPTY_LIST = "an empty list: nobody may do anything"
"""Stands in place of the entries where there is none."""


class Effect(Enum):
    """What an entry did to the rights in question."""

    GRANTS = "grants"
    LIMITS = "limits"
    STOPS = "stops"


class Names(Protocol):
    """The names that a system has for identifiers."""

    def user(self, ident: str) -> str:
        """Return the login of a user."""

    def group(self, ident: str) -> str:
        """Return the name of a group."""

    def holder(self, ident: str) -> str:
        """Return the name of a user or of a group, whichever it is, or of what is known everywhere."""


class ListEntry(Protocol):
    """One entry of a list, as its model has it; its ``str`` has identifiers where `word` has names."""

    def word(self, names: Names) -> str:
        """Return the entry in words."""


Entry = ListEntry | str
"""An entry of a list; or words where something else than a list gives the reason, such as a rule or a role."""


def word_entry(entry: Entry, names: Names) -> str:
    """Return an entry in words."""
    return entry if isinstance(entry, str) else entry.word(names)


@dataclass(frozen=True, slots=True)
class Reason:
    """One entry and what it did, and `because`, why it applies."""

    effect: Effect
    entry: Entry
    rights: Right
    because: str


@dataclass(frozen=True, slots=True)
class Decision:
    """The rights that a list lets through, with the entries that made it so.

    `is_unsure` says that entries which cannot be evaluated might change them; `given` and `refused` are
    the bits of a mask, for models that decide by bits.
    """

    rights: Right
    reasons: tuple[Reason, ...]
    is_unsure: bool = False
    given: int = 0
    refused: int = 0


@dataclass(frozen=True, slots=True)
class ItemContext:
    """What a list is of: who owns its item, and whether that is a folder."""

    owner: str
    is_folder: bool


RightSets = dict[Right, int]
"""For every single right the bit set of the holders who have it."""


@dataclass(frozen=True, slots=True)
class ListView:
    """What the checks want to know of a list, whatever its model.

    `users` and `groups` are the identifiers granted by name with what each gets, `either` those of which
    the list does not say whether they are users or groups; `everyone` is what the list gives to all;
    `is_plain` says that it holds no more than the system's own default form, `is_sticky` that people may
    remove only what they own, `is_ordered` that entries stand in the usual order, and `unsure` counts the
    entries that cannot be evaluated. `own` has the entries that stand here and did not come from above.
    """

    users: dict[str, Right]
    groups: dict[str, Right]
    everyone: Right
    is_plain: bool
    is_sticky: bool
    either: dict[str, Right] = field(default_factory=dict)
    is_ordered: bool = True
    is_closed: bool = False
    unsure: int = 0
    own: tuple[ListEntry, ...] = ()


@dataclass(frozen=True, slots=True)
class Maker:
    """Who makes an item, or owns it: their identifier and that of their primary group."""

    user: str
    group: str


class AccessList(Protocol):
    """One list, made from its stored body, and the questions that it answers; `named` are those whom it names."""

    @property
    def named(self) -> frozenset[str]:
        """The identifiers that its entries name."""

    def decide(self, context: ItemContext, holder: Holder) -> Decision:
        """Decide for one holder, with reasons."""

    def decide_all(self, crowd: Crowd, *, is_folder: bool) -> tuple[RightSets, RightSets]:
        """Decide for a crowd, in two forms: none of whom owns the item, and each as if owning it."""

    def describe(self, names: Names, *, is_folder: bool = True) -> list[str]:
        """Return the list in words, an entry a line."""

    def view(self, *, is_folder: bool) -> ListView:
        """Return what the checks want to know."""

    def locked(self, *, is_folder: bool) -> Right:
        """Return what is kept from everybody, whatever lists and roles give; of a folder also what lies in it."""


class ListModel(Protocol):
    """The contract of one list model; bodies are parsed once and then asked many times.

    `asks_enter` tells whether systems of this model ask for the right to enter on the way down, unless their
    settings say otherwise; `groups_may_own` whether an owner may be a group; `has_defaults` whether a folder passes
    on a default list of its own and not its list; `everyone_has` are the identifiers that whoever signs in has, and
    `known` the names of those that mean the same everywhere. `unread` is the body that stands for a list which could
    not be read.
    """

    name: str
    asks_enter: bool
    groups_may_own: bool
    has_defaults: bool
    everyone_has: frozenset[str]
    known: Mapping[str, str]
    unread: bytes

    def parse(self, body: bytes) -> AccessList:
        """Make a list from its stored body; raises `FormatError`."""

    def owns(self, holder: Holder, owner: str) -> bool:
        """Tell whether a holder counts as the owner."""

    def group_of(self, body: bytes) -> str:
        """Return the identifier of the group for whom items with this list count; empty where none does."""

    def overrides(self, holder: Holder) -> Reason | None:
        """Return the rights that a holder's role gives whatever the lists say, and by what."""

    def new_child(self, above: bytes, default: bytes | None, maker: Maker, *, is_folder: bool) -> bytes:
        """Return the body that a new child gets in a folder with this body (and this default list)."""

    def may_lock(self, body: bytes) -> bool:
        """Tell, without parsing it, whether a stored list may keep anything from everybody (see `locked`)."""

    def passes_on(self, above: bytes) -> bool:
        """Tell whether a folder's list says anything of new items in it; if not, a usual mode is taken."""

    def pushed(self, above: bytes, child: bytes, owner: str, *, keeps_own: bool, is_folder: bool) -> bytes:
        """Return a child's body after the body above was pushed down to it.

        `above` is the body that passes entries on; the child's own entries stay with `keeps_own`, where the
        model can tell them from those that came from above.
        """

    def followed(self, old: bytes, new: bytes, child: bytes, owner: str, *, is_folder: bool) -> bytes:
        """Return a child's body after the body above became `new`, which was `old`.

        What a child has from above is replaced, and its own entries stay. A child that does not have all of what came
        down was closed to it: where the model has no other way to say so, it stays as it is.
        """
