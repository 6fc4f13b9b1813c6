"""How many days records of what was done are kept, by the plan."""

from __future__ import annotations

from collections.abc import Mapping
from typing import cast

from neatledger.core.trail.records import Did
from neatledger.questions.office import Office

__all__ = ["KEEP_DAYS", "SUM_DAYS", "days_kept"]

KEEP_DAYS, SUM_DAYS = 400, 1100


def days_kept(office: Office, system: str) -> Mapping[Did, int]:
    """Return how many days records of each kind stay one by one: the system's own number goes before the office's."""
    usual = office.plan.settings.get("trail-days", KEEP_DAYS)
    planned = office.plan.systems.get(system)
    own = planned.settings.get("trail-days") if planned is not None else None
    if isinstance(own, int):
        usual, own = own, None
    by_kind = cast(Mapping[str, int], own or {})
    return {did: by_kind.get(did.key, usual) for did in Did}
