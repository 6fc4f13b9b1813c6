"""The paper on people: everybody with accounts and groups, what waits for a match, who can do the most."""

from __future__ import annotations

from neatledger.core.checks.contract import ANYONE
from neatledger.core.lists.rights import Right
from neatledger.core.people.matching import propose
from neatledger.questions import check, lapses, most, people, told
from neatledger.questions.office import Office
from neatledger.questions.seen import caveats
from neatledger.reports.causes import grouped_report
from neatledger.reports.compare import most_report
from neatledger.reports.lapses import lapses_report
from neatledger.reports.matching import matching_report
from neatledger.reports.paper import Paper, Part
from neatledger.reports.people import people_report
from neatledger.reports.report import count_of

__all__ = ["make"]

_SORTS = ("person", "account", "guest", "entitlement")


def make(office: Office) -> Paper:
    """Make the paper of the newest count."""
    when, plan = office.count.when, office.plan
    principals = [one for each in office.principals.values() for one in each]
    everyone = people_report(plan, principals, people.groups_of(office), office.today, with_services=True)
    findings = check.ask(office)
    causes = check.ask_for_causes(office, findings)
    by_person = grouped_report(findings, causes, "person", told.History(office).since)
    concerned = {name for one in findings if one.acceptance is None for name in one.finding.people} - {ANYONE}
    known = concerned & {str(row["person"]) for row in everyone.rows}
    shares = most.ask(office, Right.CHANGE)
    worst = most_report(shares, Right.CHANGE, when, len(shares))
    matching = matching_report(plan, propose(plan, office.principals), 0)
    found = lapses.ask(office, what=_SORTS)
    coming = lapses_report(found.coming, found.today, len(found.past), len(found.later))
    parts = [
        Part("Everybody", everyone, keys=("person",)),
        Part("What concerns whom", by_person, keys=("group",)),
        Part("Who can change the most", worst, keys=("person",)),
        Part("Accounts that match nobody yet", matching, keys=("account",)),
        Part("What ends", coming, keys=("what", "place", "who")),
    ]
    lead = [
        everyone.headline,
        f"Findings concern {count_of(len(known), 'person')} of them.",
        worst.headline,
        matching.headline,
    ]
    subtitle = f"As counted on {when}; written on {office.today}."
    return Paper(f"{plan.office}: people", subtitle, [*lead, *caveats(office, for_paper=True)], parts)
