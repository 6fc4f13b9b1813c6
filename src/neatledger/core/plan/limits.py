"""Limits on space: on folders with all below them, on a person's files, a group's, a pool.

A limit is *enforced* (the system stops whoever would pass it) or *watched* (it may be passed and is told);
a watched one with days of grace is enforced once it has been passed for longer than these. `UNLIMITED` stands
for "no limit" (of days: "for ever"), which is a statement of its own and never a zero; None is what nobody says.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from datetime import date
from enum import Enum
from typing import Any

__all__ = [
    "FIELDS",
    "UNLIMITED",
    "Band",
    "Limit",
    "OffBand",
    "On",
    "PlacedLimit",
    "Pool",
    "Settings",
    "Unlimited",
    "Warn",
]


class Unlimited(Enum):
    """The statement that there is no limit."""

    UNLIMITED = "no limit"

    def __bool__(self) -> bool:
        """Tell that it is no amount."""
        return False


UNLIMITED = Unlimited.UNLIMITED
Limit = int | Unlimited
"""An amount (bytes, or days), zero among them; or no limit in so many words."""


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

    limit: Limit
    enforced: bool = True
    grace_days: int | None = None
    warn: Warn = ()

    @classmethod
    def of(cls, *stated: Mapping[str, Any]) -> Settings:
        """Take statements together; later ones win. What nobody states is as by default."""
        values: dict[str, Any] = {"limit": UNLIMITED}
        for each in stated:
            values |= each
        return cls(**values)

    @property
    def rule(self) -> str:
        """The rule in words."""
        if self.limit is UNLIMITED or self.enforced:
            return "enforced" if self.limit is not UNLIMITED else "-"
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


@dataclass(frozen=True, slots=True)
class Pool:
    """A pool of the plan: the folders that lie in it, its size where the plan says it, who is told when."""

    name: str
    holds: tuple[str, ...]
    size: int | None = None
    warn: Warn = ()
    line: int = 0
