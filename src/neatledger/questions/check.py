"""What is not in good order: the findings of the checks, and what the plan says to the acceptance of each."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

from neatledger.core.checks.contract import Finding, OfficeFacts
from neatledger.core.checks.table import find_acceptance, run_checks
from neatledger.core.plan.plan import Acceptance
from neatledger.core.tree.address import Address
from neatledger.formats.names import encode_address
from neatledger.questions.facts import load_facts
from neatledger.questions.office import Office

__all__ = ["GradedFinding", "ask", "grade", "place_of"]


@dataclass(frozen=True, slots=True)
class GradedFinding:
    """A finding with the plan's acceptance of it, if any."""

    finding: Finding
    acceptance: Acceptance | None


def ask(office: Office, only: Iterable[str] | None = None) -> list[GradedFinding]:
    """Run the checks, all or some by name; the gravest first."""
    return grade(load_facts(office), only)


def grade(facts: OfficeFacts, only: Iterable[str] | None = None) -> list[GradedFinding]:
    """Run the checks on facts that were loaded."""
    return [GradedFinding(each, find_acceptance(each, place_of(each), facts)) for each in run_checks(facts, only)]


def place_of(finding: Finding) -> str:
    """Return the place of a finding as the plan's acceptances name it."""
    return encode_address(finding.place) if isinstance(finding.place, Address) else finding.place
