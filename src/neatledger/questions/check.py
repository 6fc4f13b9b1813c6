"""What is not in good order: the findings of the checks, by their causes, and what the plan says to each."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field
from datetime import date

from neatledger.core.checks.causes import Cause, find_causes, is_of_space
from neatledger.core.checks.contract import Finding, OfficeFacts, Severity
from neatledger.core.checks.table import CHECKS, find_acceptance, run_checks
from neatledger.core.plan.plan import Acceptance
from neatledger.core.tree.address import Address
from neatledger.errors import UnknownNameError, UsageError
from neatledger.formats.names import encode_address
from neatledger.formats.nearest import one_of, or_else
from neatledger.ledger.store import CountInfo
from neatledger.questions.facts import load_facts
from neatledger.questions.office import Office, open_office

__all__ = [
    "Compared",
    "Filter",
    "GradedFinding",
    "Since",
    "ask",
    "ask_for_causes",
    "ask_since",
    "ask_since_when",
    "by_subject",
    "check_called",
    "find_cause",
    "grade",
    "is_of",
    "place_of",
]


@dataclass(frozen=True, slots=True)
class GradedFinding:
    """A finding with the plan's acceptance of it, if any."""

    finding: Finding
    acceptance: Acceptance | None


@dataclass(frozen=True, slots=True)
class Filter:
    """Which findings are wanted: in a folder and below, of a person, of a system, from a severity on, of some checks.

    What is not said takes all. `logins` are the accounts of the person, as `system:login`.
    """

    below: Address | None = None
    person: str = ""
    logins: frozenset[str] = field(default_factory=frozenset)
    system: str = ""
    severity: Severity = Severity.ADVICE
    only: Sequence[str] | None = None

    def takes(self, finding: Finding) -> bool:
        """Tell whether a finding is wanted."""
        place = finding.place
        if CHECKS[finding.check].severity.rank < self.severity.rank:
            return False
        if self.system and self.system != (place.system if isinstance(place, Address) else place.partition(":")[0]):
            return False
        if self.below is not None and not (isinstance(place, Address) and place.is_within(self.below)):
            return False
        return not self.person or is_of(finding, self.person, self.logins)


def is_of(finding: Finding, person: str, logins: Iterable[str] = ()) -> bool:
    """Tell whether a finding is about a person: names them or is of them or of an account of theirs."""
    places = {person, *logins}
    return person in finding.people or finding.place in places or finding.cause in places


@dataclass(frozen=True, slots=True)
class Compared:
    """The findings of two counts: those that are new since the older one, and those that are gone."""

    older: CountInfo
    new: Sequence[GradedFinding]
    gone: Sequence[GradedFinding]


def ask(office: Office, only: Iterable[str] | None = None) -> list[GradedFinding]:
    """Run the checks, all or some by name; the gravest first."""
    return grade(load_facts(office), only)


def grade(facts: OfficeFacts, only: Iterable[str] | None = None) -> list[GradedFinding]:
    """Run the checks on facts that were loaded."""
    return [GradedFinding(each, find_acceptance(each, place_of(each), facts)) for each in run_checks(facts, only)]


def ask_for_causes(office: Office, findings: Iterable[GradedFinding]) -> list[Cause]:
    """Return the causes of the findings that the plan does not accept, the gravest first."""
    return find_causes((one.finding for one in findings if one.acceptance is None), office.plan)


def ask_since(
    office: Office,
    since: date | None = None,
    only: Iterable[str] | None = None,
    found: Sequence[GradedFinding] | None = None,
) -> Compared:
    """Compare the findings with those of an older count: of `since`, or the one before; raises `NoCountError`.

    The plan is that of today on both sides, and so is the day. What was `found` by the same checks already need not
    be looked for again.
    """
    names = None if only is None else list(only)
    older = office.ledger.find_count(since) if since else office.count_before()
    then = _office_of(office, older)
    old, new = by_subject(ask(then, names)), by_subject(ask(office, names) if found is None else found)
    return Compared(
        older,
        [one for key, one in new.items() if key not in old],
        [one for key, one in old.items() if key not in new],
    )


def _office_of(office: Office, count: CountInfo) -> Office:
    """Return the office with the plan and the day as they are, and another count."""
    then = open_office(office.folder, as_of=office.as_of, today=office.today)
    then.__dict__.update(plan=office.plan, ledger=office.ledger)
    then.__dict__["count"] = office.ledger.carried(count, office.plan.systems)
    return then


@dataclass(frozen=True, slots=True)
class Since:
    """Since when something of a cause was there: not yet at `before` (None: there is no older count), at `first`."""

    before: CountInfo | None
    first: CountInfo


def ask_since_when(office: Office, cause: Cause) -> Since:
    """Return two counts that follow each other, between which the first findings of a cause came.

    By the plan and the day of today. Counts between are looked at by halving: of something that came and went several
    times one coming is told.
    """
    names = list(dict.fromkeys(one.check for one in cause.findings))
    newest = office.count
    counts = [one for one in office.ledger.counts() if (one.taken_at, one.id) <= (newest.taken_at, newest.id)]

    def is_there(count: CountInfo) -> bool:
        found = ask_for_causes(office, ask(_office_of(office, count), names))
        return any(one.key == cause.key and is_of_space(one.findings[0]) == of_space for one in found)

    of_space = is_of_space(cause.findings[0])
    if is_there(counts[0]):
        return Since(None, counts[0])
    low, high = 0, len(counts) - 1
    while high - low > 1:
        middle = (low + high) // 2
        if is_there(counts[middle]):
            high = middle
        else:
            low = middle
    return Since(counts[low], counts[high])


def by_subject(findings: Iterable[GradedFinding]) -> dict[tuple[str, str, str, tuple[str, ...]], GradedFinding]:
    """Return findings by what they are of: check, place, cause and people; how much there is of it may change."""
    return {
        (one.finding.check, place_of(one.finding), one.finding.cause, one.finding.people): one for one in findings
    }


def check_called(name: str) -> str:
    """Return the check that is meant, in any case; raises `UsageError` with the nearest ones."""
    known = one_of(name, CHECKS)
    if known is None:
        raise UsageError(f"there is no check {name!r}", hint=or_else(name, CHECKS, "check --list lists them"))
    return known


def find_cause(causes: Sequence[Cause], text: str) -> tuple[int, Cause]:
    """Return a cause by its number in the ranking or by its name, with the number; raises `UnknownNameError`."""
    if text.isdecimal() and 0 < int(text) <= len(causes):
        return int(text), causes[int(text) - 1]
    for number, one in enumerate(causes, start=1):
        if text in (one.key, str(one.place)):
            return number, one
    raise UnknownNameError(f"no cause is called {text!r}", hint=f"check lists them, 1 to {len(causes)}")


def place_of(finding: Finding) -> str:
    """Return the place of a finding as the plan's acceptances name it."""
    return encode_address(finding.place) if isinstance(finding.place, Address) else finding.place
