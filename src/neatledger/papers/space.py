"""The paper on space: its parts in a stable order, with their figures and the sentences that matter most."""

from __future__ import annotations

from neatledger.core.checks import limits as limit_checks
from neatledger.core.checks import storing
from neatledger.core.plan.limits import On
from neatledger.questions import check, deciders, deciders_space, space, told
from neatledger.questions.facts import load_space
from neatledger.questions.forecast import look_ahead
from neatledger.questions.limits import load_history
from neatledger.questions.office import Office
from neatledger.questions.versions import SystemVersions
from neatledger.questions.views import load_views
from neatledger.reports.bands import bands_report
from neatledger.reports.findings import findings_report
from neatledger.reports.forecast import forecast_report, growth_of
from neatledger.reports.kinds import barred_report
from neatledger.reports.paper import Paper, Part, Use, numbered
from neatledger.reports.promises import promises_report
from neatledger.reports.space import Whole, breakdown_report, space_report
from neatledger.reports.versions import versions_report

__all__ = ["make"]

_FULLEST = 3
_SENTENCES = 7
"""How many sentences stand on top; of what is more the number is said."""


def make(office: Office) -> Paper:
    """Make the paper of the newest count."""
    plan, when = office.plan, office.count.when
    views, history = load_views(office), load_history(office)
    facts = load_space(office, views, history)
    limited = [status for status in facts.statuses if status.settings.limit]
    outlooks = look_ahead(limited, history)
    outlook_of = {(each.status.target.on, each.status.target.key): each for each in outlooks}
    pools = [line for line in facts.statuses if line.target.on is On.POOL]
    folders = [line for line in facts.statuses if line.target.on is On.FOLDER and line.settings.limit]
    fullest = sorted(folders, key=lambda line: -line.fullness)[:_FULLEST]
    drawn = [outlook_of.get((line.target.on, line.target.key)) for line in [*pools, *fullest]]
    figures = [growth_of(each) for each in drawn if each is not None and each.trend is not None]
    versions = [
        SystemVersions(name, view.rules, list(facts.kept.get(name, ())), facts.bins[name])
        for name, view in views.items()
    ]
    names = [one.name for family in (limit_checks, storing) for one in family.CHECKS]
    found = findings_report(check.ask(office, names), [], when, told.History(office).since, show_all=True)
    limits = Part("Limits", space_report(facts.statuses, when, office.today, show_all=True), keys=("named",))
    promised = Part("Promised", promises_report(facts.promises, when), keys=("pool",))
    findings = Part("Findings", found, keys=("check", "place", "evidence"))
    parts = [
        limits,
        Part("Forecast", forecast_report(outlooks, when, show_all=True), figures, keys=("place",)),
        promised,
        *(_use_part(space.ask_office(office, by, views), when) for by in ("system", "kind", "owner")),
        Part("Bands", bands_report(plan.space.bands, facts.statuses, None, show_all=True), keys=("band", "place")),
        Part("Versions and bin", versions_report(versions, when, is_compared=False)),
        Part("Not allowed", barred_report(facts.barred, plan.space.barred, when), keys=("folder", "kind", "owner")),
        findings,
    ]
    told_first = deciders_space.ask(office, facts.statuses, outlooks)
    lead = numbered(told_first, _SENTENCES)
    lead += [f"{len(told_first) - _SENTENCES} more below."] if len(told_first) > _SENTENCES else []
    lead = lead or ["No limit is known here, of a disk or of anything on it."]
    lead += filter(None, [deciders.not_known(office)])
    return Paper(f"{plan.office}: space, {deciders.date_words(office)}", f"As counted on {when}.", lead, parts)


def _use_part(found: Whole, when: str) -> Part:
    shares = [(str(part.name), part.figures.occupied) for part in found.parts]
    use = Use(str(found.whole.name), found.by, shares)
    return Part(f"Use by {found.by}", breakdown_report(found, when), [use], keys=("part",))
