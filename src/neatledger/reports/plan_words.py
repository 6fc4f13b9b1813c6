"""What the plan would have to say beside a change, as notes."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Protocol

__all__ = ["PlanWord", "plan_notes"]

_MOST = 8


class PlanWord(Protocol):
    """One thing to say in the plan: where, and what."""

    @property
    def place(self) -> str: ...
    @property
    def text(self) -> str: ...


def plan_notes(words: Sequence[PlanWord]) -> list[str]:
    """Return notes of what is to be said in the plan, the first of many; none where it says so already."""
    if not words:
        return []
    notes = ["The plan says otherwise, and mend goes by the plan. What office.yaml would have to say:"]
    notes += [f"  {one.place}: {one.text}" for one in words[:_MOST]]
    return notes + ([f"  and {len(words) - _MOST} more"] if len(words) > _MOST else [])
