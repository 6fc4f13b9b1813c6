"""Steps that bring the limits that systems tell to the plan's, and what such a step endangers."""

from __future__ import annotations

from collections.abc import Collection

from neatledger.core.plan.limits import UNLIMITED, On, Settings
from neatledger.core.space.limit_table import LimitTarget, build_limit_table
from neatledger.core.space.sizes import show_limit, show_size
from neatledger.core.steps.contract import Step
from neatledger.core.steps.limits import LimitStep, bare
from neatledger.core.survey.limits import FoundLimit
from neatledger.core.tree.address import Address
from neatledger.ledger.space import SpaceView
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
        keeps_watched = _keeps_watched(office, view.name)
        for status in build_limit_table(office.plan, view):
            planned, told, target = status.planned, status.found, status.target
            before = status.found_settings
            if planned is None or before is None or (told is not None and not told.is_own):
                continue
            if below is not None and not (target.on is On.FOLDER and target.address.is_within(below)):
                continue
            if people is not None and not (target.on is On.PERSON and target.name in people):
                continue
            # Of a file system that tells each of its limits, a folder without one can have none.
            name = told.name if told is not None else _name_of(view, target) if keeps_watched else ""
            after = bare(planned.settings)
            if not after.enforced and not keeps_watched:
                # What may be passed, the ledger watches; a limit there would stop people.
                after = Settings(UNLIMITED)
            if name and bare(before) != after:
                found.append(LimitStep(target.system, target.on, name, bare(before), after))
    return found


def _keeps_watched(office: Office, system: str) -> bool:
    """Tell whether a system may have limits that are only watched: quota groups of a file system all stop people."""
    settings = office.plan.systems[system].settings
    return settings.get("source") != "tree" or "limits-file" in settings


def _name_of(view: SpaceView, target: LimitTarget) -> str:
    """Return what a limit on something is to be called where the system tells none on it: a person's login."""
    if target.on is not On.PERSON:
        return "" if target.on is On.POOL else target.name
    return next((one.account.login for one in view.principals if one.person == target.name), "")


def stops_at_once(office: Office, step: Step) -> str:
    """Say what a limit endangers that is set below what is used; nothing of other steps."""
    if not isinstance(step, LimitStep):
        return ""
    after, limit = step.after, step.after.limit
    if limit is UNLIMITED:
        return ""
    if not after.enforced and after.grace_days is None:
        return ""
    when = "" if after.enforced else f" after {after.grace_days} days"
    for facts in office.readers[step.system].facts.get("limits", ()):
        found = FoundLimit.of_facts(facts)
        if (found.on, found.name) == (step.on, step.name) and found.used is not None and found.used > limit:
            used = f"{show_size(found.used)} are used of {show_limit(limit)}"
            return f"nothing more can be written there{when}: {used}"
    return ""
