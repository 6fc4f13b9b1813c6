"""Limits on space: on folders with all below them, on a person's files, a group's, a pool.

A limit is *enforced* (the system stops whoever would pass it) or *watched* (it may be passed and is told);
a watched one with days of grace is enforced once it has been passed for longer than these. None stands
for "no limit", which is a statement of its own and never a nought.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from datetime import date
from enum import Enum
from typing import Any

from neatledger.core.sizes import NO_LIMIT, show_size

__all__ = [
    "FIELDS",
    "Band",
    "FoundLimit",
    "OffBand",
    "On",
    "PlacedLimit",
    "Pool",
    "Settings",
    "Warn",
    "is_binary",
    "show_field",
    "show_limit",
]


class On(Enum):
    """What a limit is on."""

    FOLDER = "folder"
    PERSON = "person"
    GROUP = "group"
    POOL = "pool"


Warn = tuple[tuple[int, tuple[str, ...]], ...]
"""Warn levels in percent, the lowest first, each with those who are told."""

FIELDS = ("limit", "enforced", "grace_days", "warn")
"""What a band or a limit may state."""


@dataclass(frozen=True, slots=True)
class Settings:
    """What holds of one limit, its band and its own statements taken together."""

    limit: int | None
    enforced: bool = True
    grace_days: int | None = None
    warn: Warn = ()

    @classmethod
    def of(cls, *stated: Mapping[str, Any]) -> Settings:
        """Take statements together; later ones win. What nobody states is as by default."""
        values: dict[str, Any] = {"limit": None}
        for each in stated:
            values |= each
        return cls(**values)

    @property
    def rule(self) -> str:
        """The rule in words."""
        if self.limit is None or self.enforced:
            return "enforced" if self.limit is not None else "-"
        return "watched" if self.grace_days is None else f"watched, {self.grace_days} days' grace"


@dataclass(frozen=True, slots=True)
class Band:
    """A named set of statements that many limits share."""

    name: str
    stated: Mapping[str, Any]
    line: int = 0


@dataclass(frozen=True, slots=True)
class OffBand:
    """A field in which a place differs from its band: the band's value, and its own."""

    field: str
    band: Any
    own: Any


@dataclass(frozen=True, slots=True)
class PlacedLimit:
    """One limit of the plan: what it is on, its band, what it states itself, since when and why.

    `key` is as the plan has it: an address, which may be a pattern, or ``system:name``.
    """

    on: On
    key: str
    system: str
    name: str
    band: Band | None = None
    own: Mapping[str, Any] = field(default_factory=dict)
    since: date | None = None
    because: str = ""
    line: int = 0

    @property
    def settings(self) -> Settings:
        """What holds here."""
        return Settings.of(self.band.stated if self.band else {}, self.own)

    @property
    def exceptions(self) -> tuple[OffBand, ...]:
        """The fields in which it differs from its band; none where it has no band."""
        if self.band is None:
            return ()
        on_band = Settings.of(self.band.stated)
        mine = self.settings
        return tuple(
            OffBand(name, getattr(on_band, name), getattr(mine, name))
            for name in FIELDS
            if getattr(on_band, name) != getattr(mine, name)
        )

    @property
    def state(self) -> str:
        """On band, off band, or unbanded."""
        if self.band is None:
            return "unbanded"
        return "off band" if self.exceptions else "on band"


@dataclass(frozen=True, slots=True)
class Pool:
    """A pool of the plan: the folders that lie in it, its size where the plan says it, who is told when."""

    name: str
    holds: tuple[str, ...]
    size: int | None = None
    warn: Warn = ()
    line: int = 0


@dataclass(frozen=True, slots=True)
class FoundLimit:
    """One limit as a system tells it.

    `name` is a folder's path, a login or identifier, a group, or a pool. `used` is the system's own figure;
    `kept_back` is what the system holds ready for itself, and `block` its unit of allocation (bytes).
    `leaves_out` are paths below a folder that this limit does not count. `by` says where it was read.
    """

    on: On
    name: str
    limit: int | None
    enforced: bool = True
    grace_days: int | None = None
    warn: tuple[int, ...] = ()
    used: int | None = None
    kept_back: int = 0
    block: int = 1
    leaves_out: tuple[str, ...] = ()
    by: str = ""

    @property
    def left(self) -> int | None:
        """What may still be written, where the system tells what is used; None where it does not, or no limit."""
        if self.limit is None or self.used is None:
            return None
        return max(0, self.limit - self.used - self.kept_back) // self.block * self.block

    @property
    def settings(self) -> Settings:
        """What holds by it."""
        return Settings(self.limit, self.enforced, self.grace_days, tuple((level, ()) for level in self.warn))

    def to_facts(self) -> dict[str, Any]:
        """Return what the ledger keeps."""
        return {
            "on": self.on.value,
            "name": self.name,
            "limit": self.limit,
            "enforced": self.enforced,
            "grace_days": self.grace_days,
            "warn": list(self.warn),
            "used": self.used,
            "kept_back": self.kept_back,
            "block": self.block,
            "leaves_out": list(self.leaves_out),
            "by": self.by,
        }

    @classmethod
    def of_facts(cls, facts: Mapping[str, Any]) -> FoundLimit:
        """Return a limit from what the ledger keeps."""
        lists = {name: tuple(facts[name]) for name in ("warn", "leaves_out")}
        return cls(**{**facts, "on": On(facts["on"]), **lists})


def is_binary(size_bytes: int | None) -> bool:
    """Tell whether a size was most likely meant in powers of 1024: it is whole in these and not in 1000s."""
    if not size_bytes:
        return False
    return size_bytes % 1024**2 == 0 and size_bytes % 1000**2 != 0


def show_limit(limit: int | None) -> str:
    """Show a limit in the unit that it is whole in, "no limit" in so many words."""
    return NO_LIMIT if limit is None else show_size(limit, binary=is_binary(limit))


def show_field(name: str, value: Any) -> str:
    """Show the value of one of `FIELDS`."""
    match name:
        case "limit":
            return show_limit(value)
        case "enforced":
            return "enforced" if value else "watched"
        case "grace_days":
            return "no grace" if value is None else f"{value} days' grace"
        case _:
            told = [f"{level} % to {', '.join(who) or 'nobody'}" for level, who in value]
            return "; ".join(told) or "no warning"
