"""What the plan says of storing: how a system counts, what is kept beside the files, what may not be stored."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from datetime import date
from enum import IntEnum

from neatledger.core.plan.limits import Band, Limit, PlacedLimit, Pool
from neatledger.core.tree.address import Address

__all__ = [
    "Barred",
    "BarredFiles",
    "Entitlement",
    "SameAs",
    "Sort",
    "SpacePlan",
    "SpaceRules",
    "SyncRules",
]


class Sort(IntEnum):
    """What a folder's contents are: files people work with, or what a system keeps beside them."""

    CURRENT = 0
    VERSIONS = 1
    BIN = 2
    SNAPSHOTS = 3

    @property
    def words(self) -> str:
        """What it is called on the screen."""
        return (
            "files in use" if self is Sort.CURRENT else "old versions" if self is Sort.VERSIONS else self.name.lower()
        )


@dataclass(frozen=True, slots=True)
class SpaceRules:
    """How one system counts and keeps.

    `measure` is the figure that limits are put to, ``occupied`` or ``bytes``. `patterns` name the folders
    that hold old versions, the bin and snapshots; `counted` are those that count against limits.
    `versions` is the number kept of each file by kind ("" for all others; None: the plan does not say), and
    `bin_days` how long the bin keeps (None: not said). `largest` is the largest file allowed;
    `starter` how many files a new home has in it, and of how many bytes together.
    """

    measure: str = "occupied"
    patterns: Mapping[Sort, tuple[bytes, ...]] = field(default_factory=dict)
    counted: frozenset[Sort] = frozenset({Sort.CURRENT})
    versions: Mapping[str, int] | None = None
    bin_days: Limit | None = None
    largest: int | None = None
    starter: tuple[int, int] | None = None

    def kept_versions(self, kind: str) -> int:
        """Return how many old versions of a file of a kind are kept."""
        message = self.versions or {}
        return message.get(kind, message.get("", 0))


@dataclass(frozen=True, slots=True)
class Barred:
    """Kinds of files that may not be stored in a folder or below it."""

    folder: Address
    kinds: frozenset[str]
    because: str = ""


@dataclass(frozen=True, slots=True)
class BarredFiles:
    """Files of a barred kind right in one folder, of one owner, and the rule that bars them."""

    folder: Address
    kind: str
    owner: str
    files: int
    size: int
    rule: Barred


@dataclass(frozen=True, slots=True)
class Entitlement:
    """Something that an office has bought for some people: the space that it gives at the most, on some systems.

    `until` is its last day.
    """

    name: str
    holders: tuple[str, ...]
    systems: tuple[str, ...]
    space: Limit
    until: date | None = None


@dataclass(frozen=True, slots=True)
class SameAs:
    """A folder that shows the tree of another one."""

    folder: Address
    same_as: Address


@dataclass(frozen=True, slots=True)
class SyncRules:
    """What a synced device leaves out: kinds, files over a size, folders; and how much it holds at all."""

    kinds: frozenset[str] = frozenset()
    largest: int | None = None
    folders: tuple[Address, ...] = ()
    device: int | None = None


@dataclass(frozen=True, slots=True)
class SpacePlan:
    """All that the plan says of space.

    `stored` and `mailed` say where the report on space is put and to whom it is sent.
    """

    bands: Mapping[str, Band] = field(default_factory=dict)
    limits: tuple[PlacedLimit, ...] = ()
    pools: Mapping[str, Pool] = field(default_factory=dict)
    entitlements: tuple[Entitlement, ...] = ()
    barred: tuple[Barred, ...] = ()
    same_as: tuple[SameAs, ...] = ()
    sync: SyncRules | None = None
    rules: Mapping[str, SpaceRules] = field(default_factory=dict)
    stored: tuple[Address, ...] = ()
    mailed: tuple[str, ...] = ()

    def rules_of(self, system: str) -> SpaceRules:
        """Return how a system counts."""
        return self.rules.get(system, SpaceRules())
