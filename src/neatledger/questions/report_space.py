"""Everything about space at once, for a paper."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

from neatledger.core.checks import limits as limit_checks
from neatledger.core.checks import storing
from neatledger.core.checks.contract import Finding, SpaceFacts
from neatledger.core.space.forecast import Outlook
from neatledger.questions import check, space, told
from neatledger.questions.facts import load_space
from neatledger.questions.forecast import look_ahead
from neatledger.questions.limits import load_history
from neatledger.questions.office import Office
from neatledger.questions.space import Breakdown
from neatledger.questions.told import GradedFinding, Since
from neatledger.questions.versions import SystemVersions
from neatledger.questions.views import load_views

__all__ = ["SpaceSummary", "ask"]


@dataclass(frozen=True, slots=True)
class SpaceSummary:
    """The office's space: its facts, where limited places go, what uses it, and what the checks on space find."""

    facts: SpaceFacts
    outlooks: list[Outlook]
    breakdowns: list[Breakdown]
    versions: list[SystemVersions]
    findings: list[GradedFinding]
    since: Callable[[Finding], Since]


def ask(office: Office) -> SpaceSummary:
    """Return everything about space."""
    views, history = load_views(office), load_history(office)
    facts = load_space(office, views, history)
    limited = [status for status in facts.statuses if status.settings.limit]
    breakdowns = [space.ask_office(office, by, views) for by in ("system", "kind", "owner")]
    versions = [
        SystemVersions(name, view.rules, list(facts.kept.get(name, ())), facts.bins[name])
        for name, view in views.items()
    ]
    names = [one.name for family in (limit_checks, storing) for one in family.CHECKS]
    return SpaceSummary(
        facts,
        look_ahead(limited, history),
        breakdowns,
        versions,
        check.ask(office, names),
        told.History(office).since,
    )
