"""The paper on protection, for whoever insures the office: wanted, found, worst loss and proof, place by place."""

from __future__ import annotations

from neatledger.core.checks import protection as checks
from neatledger.questions import check, protect, told
from neatledger.questions.office import Office
from neatledger.questions.seen import caveats
from neatledger.reports.findings import findings_report
from neatledger.reports.paper import Paper, Part
from neatledger.reports.protect import backups_report, keys_report, protect_report

__all__ = ["make"]


def make(office: Office) -> Paper:
    """Make the paper of the newest count."""
    when, plan = office.count.when, office.plan
    places = protect.ask(office)
    systems = protect.systems_of(office)
    names = {one.name for one in checks.CHECKS}
    found = [one for one in check.ask(office) if one.finding.check in names]
    findings = findings_report(found, [], when, told.History(office).since, show_all=True)
    parts = [
        Part("Place by place", protect_report(places, when, is_all=False), keys=("where",)),
        Part("Backups and snapshots", backups_report(systems), keys=("system", "name")),
        Part("Keys", keys_report(systems), keys=("where",)),
        Part("What is wrong", findings, keys=("check", "place")),
    ]
    lead = [parts[0].report.headline, parts[1].report.headline, findings.headline]
    subtitle = f"As counted on {when}; written on {office.today}."
    return Paper(f"{plan.office}: would it come back?", subtitle, [*lead, *caveats(office, for_paper=True)], parts)
