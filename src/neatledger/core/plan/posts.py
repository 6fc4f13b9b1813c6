"""Posts: what people have by what they do in the office, for how long, and what somebody has beyond it."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from datetime import date
from enum import Enum

from neatledger.core.tree.address import Address

__all__ = ["Beyond", "Devices", "HeldPost", "Post"]


class Devices(Enum):
    """Which devices of somebody may hold copies."""

    NONE = "none"
    MANAGED = "managed"
    ANY = "any"


@dataclass(frozen=True, slots=True)
class Post:
    """One post: the groups that it puts people into, the systems that they have accounts on, and what else they get.

    `accounts` are forms of logins by system, `email` one of addresses, `home` that of the home's address (see
    `posts.forms`); `band` is the home's, `entitlements` what the office has bought for whoever holds it, `devices`
    which may hold copies, and `tell` who is told when somebody comes to the post or leaves it.
    """

    id: str
    name: str
    groups: tuple[str, ...] = ()
    accounts: Mapping[str, str] = field(default_factory=dict)
    email: str = ""
    home: str = ""
    band: str = ""
    tell: tuple[str, ...] = ()
    line: int = 0
    entitlements: tuple[str, ...] = ()
    devices: Devices = Devices.ANY


@dataclass(frozen=True, slots=True)
class HeldPost:
    """A post that somebody holds, from a first day to a last one (None: not bounded), and why where that is said."""

    post: str
    start: date | None = None
    until: date | None = None
    because: str = ""
    line: int = 0

    def is_held(self, day: date | None) -> bool:
        """Tell whether it is held on a day, the last one included; on no day in particular it is."""
        if day is None:
            return True
        return (self.start is None or self.start <= day) and (self.until is None or day <= self.until)


@dataclass(frozen=True, slots=True)
class Beyond:
    """What somebody has beyond their posts, until when and why: a group, or what a folder grants them by name."""

    group: str = ""
    folder: Address | None = None
    until: date | None = None
    because: str = ""
    line: int = 0

    def is_over(self, day: date | None) -> bool:
        """Tell whether its last day has passed."""
        return self.until is not None and day is not None and self.until < day
