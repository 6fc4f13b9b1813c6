"""Limits that many places share: who has which, and what restating a band does."""

from __future__ import annotations

from collections.abc import Collection, Mapping
from dataclasses import dataclass
from typing import Any

from neatledger.core.space.bands import Restating, apply_restating, restate
from neatledger.core.space.limit_table import LimitStatus, build_limit_table, join_pools
from neatledger.core.space.promises import Promise, promises
from neatledger.errors import UnknownNameError
from neatledger.office.addresses import parse_address
from neatledger.questions import limits
from neatledger.questions.office import Office
from neatledger.questions.views import load_views

__all__ = ["RestatedBand", "ask", "ask_restated"]


@dataclass(frozen=True, slots=True)
class RestatedBand:
    """What restating a band does to places, and what pools promise before and after."""

    restating: Restating
    before: list[Promise]
    after: list[Promise]


def ask(office: Office, band: str | None = None, *, is_of_plan: bool = False) -> list[LimitStatus]:
    """Return every limited place, for all bands or one; raises `UnknownNameError` for one the plan does not have."""
    if band is not None:
        office.find_band(band)
    return limits.ask(office, load_views(office), is_of_plan=is_of_plan)


def ask_restated(
    office: Office,
    band: str,
    stated: Mapping[str, Any],
    *,
    bring_back: Collection[str] = (),
    later_only: bool = False,
    insist: bool = False,
    is_of_plan: bool = False,
) -> RestatedBand:
    """Return what stating fields of a band anew does; nothing is changed. Raises `UnknownNameError`."""
    band = office.find_band(band)
    for _, names in stated.get("warn", ()):
        for name in names:
            if name not in office.plan.people and name not in office.plan.groups:
                raise UnknownNameError(f"the plan has no person or group {name!r}", hint="people lists everyone")
    views = load_views(office)
    statuses = limits.ask(office, views, is_of_plan=is_of_plan)
    found = restate(
        statuses,
        office.plan.space.bands[band],
        stated,
        office.today,
        bring_back=[str(parse_address(key)) if ":/" in key else key for key in bring_back],
        later_only=later_only,
        insist=insist,
    )
    if found.unknown:
        hint = f"limits {band} -a lists what has this band"
        raise UnknownNameError(f"band {band} has no exception {found.unknown[0]!r}", hint=hint)
    plan = apply_restating(office.plan, found)
    after = join_pools(status for view in views.values() for status in build_limit_table(plan, view))
    # What is promised is what the plan would have the systems enforce, on both sides of the comparison.
    planned, then = (
        promises(office.plan, [status.as_planned() for status in each], office.today) for each in (statuses, after)
    )
    return RestatedBand(found, planned, then)
