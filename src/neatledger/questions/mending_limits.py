"""Steps that bring the limits that systems tell to the plan's, and what such a step endangers."""

from __future__ import annotations

from collections.abc import Collection

from neatledger.core.plan.limits import On
from neatledger.core.space.limit_table import build_limit_table
from neatledger.core.space.sizes import show_limit, show_size
from neatledger.core.steps.contract import Step
from neatledger.core.steps.limits import LimitStep
from neatledger.core.survey.limits import FoundLimit
from neatledger.core.tree.address import Address
from neatledger.questions.office import Office
from neatledger.questions.views import link_views, view_of

__all__ = ["limit_steps", "stops_at_once"]


def limit_steps(office: Office, below: Address | None = None, people: Collection[str] | None = None) -> list[Step]:
    """Return the steps that set what the plan says where a system tells another limit of its own."""
    placed = {one.system for one in office.plan.space.limits}
    views = {
        name: view_of(office, reader)
        for name, reader in office.readers.items()
        # Where no limit was told, none can be looked at before it is set.
        if name in placed and reader.facts.get("limits") and (below is None or below.system == name)
    }
    link_views(views.values())
    found: list[Step] = []
    for view in views.values():
        for status in build_limit_table(office.plan, view):
            planned, told, target = status.planned, status.found, status.target
            if planned is None or told is None or not told.is_told or not told.is_own:
                continue
            if below is not None and not (target.on is On.FOLDER and target.address.is_within(below)):
                continue
            if people is not None and not (target.on is On.PERSON and target.name in people):
                continue
            if planned.settings.limit != told.limit:
                found.append(LimitStep(target.system, told.on, told.name, told.limit, planned.settings.limit))
    return found


def stops_at_once(office: Office, step: Step) -> str:
    """Say what a limit endangers that is set below what is used; nothing of other steps."""
    if not isinstance(step, LimitStep) or not isinstance(step.after, int):
        return ""
    for facts in office.readers[step.system].facts.get("limits", ()):
        one = FoundLimit.of_facts(facts)
        if (one.on, one.name) == (step.on, step.name) and one.used is not None and one.used > step.after:
            return f"nothing more can be written there: {show_size(one.used)} are used of {show_limit(step.after)}"
    return ""
