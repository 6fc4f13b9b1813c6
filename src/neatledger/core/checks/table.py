"""All checks, by name; a family is a file beside this one, and its row here."""

from __future__ import annotations

from collections.abc import Iterable
from datetime import date

from neatledger.core.checks import (
    accounts,
    agreement,
    devices,
    grants,
    guests,
    homes,
    inheritance,
    leavers,
    limits,
    links,
    lists,
    mounts,
    names,
    openness,
    people,
    posts,
    protection,
    reviews,
    shares,
    storing,
    teams,
    together,
    trail,
)
from neatledger.core.checks.contract import Check, Finding, OfficeFacts
from neatledger.core.plan.plan import Acceptance, Plan
from neatledger.core.tree.patterns import match_text
from neatledger.pace import paced

__all__ = ["CHECKS", "find_acceptance", "run_checks"]

FAMILIES = (
    *(openness, agreement, people, grants, shares, mounts, lists, inheritance, homes, names, limits, storing),
    *(links, teams, guests, accounts, devices, reviews, posts, leavers, trail, protection, together),
)
CHECKS: dict[str, Check] = {check.name: check for family in FAMILIES for check in family.CHECKS}


def run_checks(office: OfficeFacts, only: Iterable[str] | None = None) -> list[Finding]:
    """Run the checks, all or some by name; the gravest findings first, in a stable order."""
    wanted = list(CHECKS.values()) if only is None else [CHECKS[name] for name in only]
    wanted.sort(key=lambda check: -check.severity.rank)
    return [finding for check in paced(wanted) for finding in check.find(office)]


def find_acceptance(finding: Finding, place: str, plan: Plan, today: date) -> Acceptance | None:
    """Return the plan's acceptance of a finding, while it lasts; `place` is the finding's place as text."""
    for acceptance in plan.accepted:
        is_current = acceptance.until is None or today <= acceptance.until
        if is_current and acceptance.check == finding.check and match_text(acceptance.place, place):
            return acceptance
    return None
