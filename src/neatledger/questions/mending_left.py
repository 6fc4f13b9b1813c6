"""What of the differences no step ends, and the reasons why."""

from __future__ import annotations

from dataclasses import dataclass

from neatledger.core.access.differences import Difference

__all__ = ["ABSENT", "GATES", "SEVERAL", "Left"]


@dataclass(frozen=True, slots=True)
class Left:
    """A difference that no step ends, and why: a person must look at it."""

    difference: Difference
    why: str


ABSENT = {
    True: "there is no such folder: make it, or put its name right in the plan",
    False: "whether there is such a folder was not seen: counts --not-seen says why",
}
SEVERAL = "whose account it is must be said in the plan: match shows who it may be"
GATES = {
    "account": "the account is not open",
    "service": "the service is not switched on for it",
    "entitlement": "they lack the licence for the service",
    "share": "the permission of the share keeps it back",
    "published": "it is not switched on as a team folder",
    "enter": "a folder above keeps them out, and the plan says so",
    "download": "the team folder allows no downloading",
    "beneath": "the share beneath lets less through",
    "list": "its list cannot give it",
    "running": "the service is not running",
    "rules": "the rules for sharing keep it back",
    "until": "it has ended",
    "system": "the system is read-only",
}
