"""Limits as a system tells them."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

from neatledger.core.plan.limits import UNLIMITED, Limit, On, Settings

__all__ = ["FoundLimit"]


@dataclass(frozen=True, slots=True)
class FoundLimit:
    """One limit as a system tells it.

    `name` is a folder's path, a login or identifier, a group, or a pool. `used` is the system's own figure;
    `kept_back` is what the system holds ready for itself, and `block` its unit of allocation (bytes).
    `leaves_out` are paths below a folder that this limit does not count. `by` says where it was read. Where it
    is not `is_told`, the system tells what is used, and a limit may hold that it does not show. `items` is how many
    files and folders there may be (inodes of a file system, statvfs(3)), None for any number; `items_used` how many
    there are. One that is not `is_own` is set on something that holds the place among others, as a quota group may.
    """

    on: On
    name: str
    limit: Limit
    enforced: bool = True
    grace_days: int | None = None
    warn: tuple[int, ...] = ()
    used: int | None = None
    kept_back: int = 0
    block: int = 1
    leaves_out: tuple[str, ...] = ()
    by: str = ""
    is_told: bool = True
    items: int | None = None
    items_used: int | None = None
    is_own: bool = True

    @property
    def items_left(self) -> int | None:
        """How many files and folders may still be made; None where no number is set, or it is not told."""
        return None if self.items is None or self.items_used is None else max(0, self.items - self.items_used)

    @property
    def left(self) -> int | None:
        """What may still be written, where the system tells what is used; None where it does not, or no limit."""
        if self.limit is UNLIMITED or self.used is None:
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
            "limit": None if self.limit is UNLIMITED else self.limit,
            "enforced": self.enforced,
            "grace_days": self.grace_days,
            "warn": list(self.warn),
            "used": self.used,
            "kept_back": self.kept_back,
            "block": self.block,
            "leaves_out": list(self.leaves_out),
            "by": self.by,
            "is_told": self.is_told,
            "items": self.items,
            "items_used": self.items_used,
            "is_own": self.is_own,
        }

    @classmethod
    def of_facts(cls, facts: Mapping[str, Any]) -> FoundLimit:
        """Return a limit from what the ledger keeps."""
        lists = {name: tuple(facts[name]) for name in ("warn", "leaves_out")}
        limit = UNLIMITED if facts["limit"] is None else facts["limit"]
        return cls(**{**facts, "on": On(facts["on"]), "limit": limit, **lists})
