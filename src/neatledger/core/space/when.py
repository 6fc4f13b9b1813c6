"""The day on which a level is met; apart from the forecast, which needs heavy company."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import date
from enum import Enum

__all__ = ["YEARS", "FillUp", "Meeting", "When"]

YEARS = 5
"""How far ahead it makes sense to look."""


class Meeting(Enum):
    """How a level is met."""

    ALREADY = "already"
    ON = "on"
    NOT_WITHIN = f"not within {YEARS} years"
    UNEVEN = "too uneven for a date"
    TOO_FEW = "not enough history"


@dataclass(frozen=True, slots=True)
class When:
    """When a level is met: the day expected, the earliest and the latest (None: not within `YEARS`)."""

    meeting: Meeting
    day: date | None = None
    earliest: date | None = None
    latest: date | None = None


@dataclass(frozen=True, slots=True)
class FillUp:
    """A limit that is met: what it is on, what is used of it and allowed (bytes), and when."""

    target: str
    amount: int
    limit: int
    when: When
