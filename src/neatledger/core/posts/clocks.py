"""The two clocks that begin with somebody's last day: how long a successor may look, and how long all is kept."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import date, timedelta

from neatledger.core.plan.plan import Plan

__all__ = ["Clocks", "clocks_of"]

_HAND_OVER_DAYS, _KEEP_DAYS = 42, 365


@dataclass(frozen=True, slots=True)
class Clocks:
    """The last days of both: until then a successor may read what was left, and until then all of it is kept."""

    hand_over: date
    keep: date


def clocks_of(plan: Plan, last_day: date) -> Clocks:
    """Return what the plan's settings make of a last day."""
    hand_over = plan.settings.get("hand-over-days", _HAND_OVER_DAYS)
    keep = plan.settings.get("keep-days", _KEEP_DAYS)
    return Clocks(last_day + timedelta(days=hand_over), last_day + timedelta(days=keep))
