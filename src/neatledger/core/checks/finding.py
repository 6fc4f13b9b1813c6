"""What a check finds: one thing, where it is, whom it is about, and how much it matters."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import date
from enum import Enum

from neatledger.core.lists.rights import Right
from neatledger.core.tree.address import Address

__all__ = ["ANYONE", "Finding", "Severity"]

ANYONE = "anyone"
"""Stands among the people of a finding for everybody, with an account or without."""


class Severity(Enum):
    """How much a finding matters, the least first."""

    ADVICE = "advice"
    LOW = "low"
    MEDIUM = "medium"
    HIGH = "high"

    @property
    def rank(self) -> int:
        """Return the place in the order, 0 for the least."""
        return list(Severity).index(self)


@dataclass(frozen=True, slots=True)
class Finding:
    """One thing found: which check, where, what was seen, and what to do about it.

    `cause` names what brought it about, where that is another thing than the place: a link, an account, an owner.
    `people` are those whom it is about, `ANYONE` among them; `rights` what they have that they should not.
    """

    check: str
    place: Address | str
    evidence: str
    advice: str = ""
    cause: str = ""
    people: tuple[str, ...] = ()
    rights: Right = Right.NONE
    happened: date | None = None
    """The day on which it was done, of what somebody did; None of what stands until somebody changes it."""

    @property
    def subject(self) -> tuple[str, Address | str, str, tuple[str, ...]]:
        """What it is of: two findings of one subject are the same one, however much there is of it."""
        return self.check, self.place, self.cause, self.people
