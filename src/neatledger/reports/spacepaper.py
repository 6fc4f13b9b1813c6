"""The paper on space: its parts in a stable order, with their figures and the sentences that matter most."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import date
from typing import Protocol

from neatledger.core.checks.contract import SpaceFacts
from neatledger.core.plan.limits import On
from neatledger.core.plan.plan import Plan
from neatledger.core.space.forecast import Outlook
from neatledger.core.space.sizes import show_limit, show_size
from neatledger.reports.bands import bands_report
from neatledger.reports.findings import Graded, SinceOf, findings_report
from neatledger.reports.forecast import forecast_report, full_words, growth_of
from neatledger.reports.kinds import barred_report
from neatledger.reports.paper import Paper, Part, Use
from neatledger.reports.promises import promises_report
from neatledger.reports.space import Whole, breakdown_report, space_report
from neatledger.reports.versions import OfSystem, versions_report

__all__ = ["Summary", "space_paper"]


class Summary(Protocol):
    """The office's space: its facts, where limited places go, what uses it, and what the checks on space find."""

    @property
    def facts(self) -> SpaceFacts: ...
    @property
    def outlooks(self) -> Sequence[Outlook]: ...
    @property
    def breakdowns(self) -> Sequence[Whole]: ...
    @property
    def versions(self) -> Sequence[OfSystem]: ...
    @property
    def findings(self) -> Sequence[Graded]: ...
    @property
    def since(self) -> SinceOf: ...


def space_paper(plan: Plan, found: Summary, when: str, today: date, caveats: Sequence[str] = ()) -> Paper:
    """Make the paper; `when` is the moment of the count, in words, and `caveats` what to bear in mind of it."""
    facts = found.facts
    outlook_of = {(each.status.target.on, each.status.target.key): each for each in found.outlooks}
    pools = [line for line in facts.statuses if line.target.on is On.POOL]
    folders = [line for line in facts.statuses if line.target.on is On.FOLDER and line.settings.limit]
    fullest = sorted(folders, key=lambda line: -line.fullness)[:3]
    drawn = [outlook_of.get((line.target.on, line.target.key)) for line in [*pools, *fullest]]
    figures = [growth_of(each) for each in drawn if each is not None and each.trend is not None]
    limits = Part("Limits", space_report(facts.statuses, when, today, show_all=False))
    promised = Part("Promised", promises_report(facts.promises, when))
    findings = Part("Findings", findings_report(found.findings, [], when, found.since, show_all=False))
    parts = [
        limits,
        Part("Forecast", forecast_report(found.outlooks, when, show_all=False), figures),
        promised,
        *(_use_part(each, when) for each in found.breakdowns),
        Part("Bands", bands_report(plan.space.bands, facts.statuses, None, show_all=False)),
        Part("Versions and bin", versions_report(found.versions, when, is_compared=False)),
        Part("Barred kinds", barred_report(facts.barred, plan.space.barred, when)),
        findings,
    ]
    lead = [
        f"{line.target.key}: {show_size(line.amount)} of {show_limit(line.settings.limit)} used; full: "
        f"{full_words(outlook_of[On.POOL, line.target.key])}."
        for line in pools
        if line.settings.limit and (On.POOL, line.target.key) in outlook_of
    ]
    lead += [part.report.headline for part in (limits, promised, findings)]
    lead += caveats
    return Paper(f"{plan.office}: space", f"As counted on {when}; written on {today}.", lead, parts)


def _use_part(found: Whole, when: str) -> Part:
    shares = [(str(part.name), part.figures.occupied) for part in found.parts]
    use = Use(str(found.whole.name), found.by, shares)
    return Part(f"Use by {found.by}", breakdown_report(found, when), [use])
