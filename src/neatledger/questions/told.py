"""What the checks told of a count: looked up where it is kept with it, else looked for, and kept.

A finding is *told since* the first count after the last one that did not have it, each as it was judged then: by the
plan and on the day of its first look.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable
from dataclasses import dataclass
from datetime import date
from functools import cached_property
from hashlib import sha256

from neatledger import __version__
from neatledger.core.checks.contract import Finding, OfficeFacts
from neatledger.core.checks.table import CHECKS, find_acceptance, run_checks
from neatledger.core.plan.limits import UNLIMITED
from neatledger.core.plan.plan import Acceptance
from neatledger.core.space.when import FillUp, Meeting
from neatledger.core.tree.address import Address
from neatledger.errors import OfficeError
from neatledger.formats.names import encode_address
from neatledger.ledger.findings import Look, Told, digest_of
from neatledger.ledger.store import CountInfo
from neatledger.office.read import PLAN_NAME
from neatledger.questions.facts import load_facts
from neatledger.questions.office import Office
from neatledger.questions.parts import findings_by

__all__ = ["GradedFinding", "History", "Since", "ask", "ask_then", "grade", "office_of", "place_of"]


@dataclass(frozen=True, slots=True)
class GradedFinding:
    """A finding with the plan's acceptance of it, if any."""

    finding: Finding
    acceptance: Acceptance | None


def ask(office: Office) -> Told:
    """Return what there is to find in the count of an office, by its plan and on its day."""
    basis = _basis(office)
    # One question may ask several times.
    known = office.answers.findings.get(basis)
    if known is None and office.is_as_counted:
        known = office.ledger.findings.find(office.count.id, basis)
    if known is None:
        known = _look_for(office)
        if office.is_as_counted:
            _keep(office, known, basis)
    office.answers.findings[basis] = known
    return known


def _look_for(office: Office) -> Told:
    facts = load_facts(office)
    # Workers open the office anew: they know nothing of what is only imagined.
    by_workers = office.workers is not None and office.is_as_counted
    findings = findings_by(office, office.workers) if by_workers and office.workers else run_checks(facts)
    return Told(office.count.id, office.today, tuple(findings), tuple(_filling(facts)))


def ask_then(office: Office, count: CountInfo) -> Told:
    """Return what was first told of an older count; where nobody asked then, it is looked for now.

    By the plan as it is, but on the day of that count.
    """
    return office.ledger.findings.first(count.id) or ask(office_of(office, count))


def office_of(office: Office, count: CountInfo) -> Office:
    """Return the office with the plan as it is, at another count and on its day."""
    return office.with_(count=office.ledger.carried(count, office.plan.systems), day=count.day)


def grade(office: Office, findings: Iterable[Finding]) -> list[GradedFinding]:
    """Return findings with what the plan says to each on the day of the question."""
    return [GradedFinding(one, find_acceptance(one, place_of(one), office.plan, office.today)) for one in findings]


def place_of(finding: Finding) -> str:
    """Return the place of a finding as the plan's acceptances name it."""
    return encode_address(finding.place) if isinstance(finding.place, Address) else finding.place


def _basis(office: Office) -> str:
    """Return a digest of all that findings rest on beside the count itself."""
    path = office.folder / PLAN_NAME
    try:
        plan = path.read_bytes()
    except OSError as error:
        raise OfficeError(f"cannot read the plan: {error.strerror}", str(path)) from None
    surveys = sorted(one.id for one in office.count.surveys)
    counts = [one.id for one in office.counts_until()]
    days = office.today.isoformat(), office.day.isoformat()
    words = (
        __version__,
        days,
        surveys,
        counts,
        office.ledger.reviews.head(),
        office.ledger.trail_head(),
        sha256(plan).hexdigest(),
    )
    return sha256(repr(words).encode()).hexdigest()


def _keep(office: Office, told: Told, basis: str) -> None:
    standing = Counter(
        CHECKS[one.finding.check].severity.value for one in grade(office, told.findings) if one.acceptance is None
    )
    office.ledger.findings.keep(told, basis, standing)


def _filling(facts: OfficeFacts) -> list[FillUp]:
    """Return what is full or will be, the soonest first."""
    found = []
    for one in facts.space.statuses:
        limit = one.settings.limit
        if not one.is_told or limit is None or limit is UNLIMITED:
            continue
        when = facts.space.full_on(one)
        if when.meeting in (Meeting.ALREADY, Meeting.ON):
            found.append(FillUp(one.target.key, one.amount, limit, when))
    return sorted(found, key=lambda one: (one.when.meeting is Meeting.ON, str(one.when.day), one.target))


@dataclass(frozen=True, slots=True)
class Since:
    """Since when something was told: not yet on the day `before` (None: nobody looked before), but on `first`."""

    before: date | None
    first: date


@dataclass(frozen=True)
class History:
    """The first looks at the counts up to that of a question."""

    office: Office

    @cached_property
    def looks(self) -> list[Look]:
        """The first look at each count that was looked at, the oldest count first."""
        known = self.office.ledger.findings.looks()
        return [known[one.id] for one in self.office.counts_until() if one.id in known]

    def since(self, finding: Finding) -> Since:
        """Return since when a finding of the count is told without a break; of what was done, when that was."""
        if finding.happened is not None:
            return Since(finding.happened, finding.happened)
        digest, first = digest_of(finding), self.office.today
        for look in reversed(self.looks):
            if digest not in look.subjects:
                return Since(look.day, first)
            first = look.day
        return Since(None, first)
