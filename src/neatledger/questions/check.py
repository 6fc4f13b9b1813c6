"""What is not in good order: the findings of the checks, by their causes, and what the plan says to each."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field
from datetime import date

from neatledger.core.checks.causes import Cause, find_causes, is_of_space
from neatledger.core.checks.contract import Finding, Severity
from neatledger.core.checks.table import CHECKS, run_checks
from neatledger.core.people.principals import Principal
from neatledger.core.tree.address import Address
from neatledger.errors import UnknownNameError, UsageError
from neatledger.formats.names import show_address
from neatledger.formats.nearest import one_of, or_else
from neatledger.ledger.store import CountInfo
from neatledger.questions import told
from neatledger.questions.facts import load_facts
from neatledger.questions.office import Office
from neatledger.questions.told import GradedFinding, Since

__all__ = [
    "Compared",
    "Filter",
    "ask",
    "ask_anew",
    "ask_for_causes",
    "ask_since",
    "ask_since_when",
    "check_called",
    "find_cause",
    "is_cause",
    "is_of",
    "numbers_about",
]

_MONTH = 30  # days


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
        if self.only is not None and finding.check not in self.only:
            return False
        if CHECKS[finding.check].severity.rank < self.severity.rank:
            return False
        if self.system and self.system != (place.system if isinstance(place, Address) else place.partition(":")[0]):
            return False
        if self.below is not None and not (isinstance(place, Address) and place.is_within(self.below)):
            return False
        return not self.person or is_of(finding, self.person, self.logins)

    def spell(self) -> str:
        """Say what is wanted, as the end of a sentence; nothing where that is everything."""
        words = [f" in {show_address(self.below)} and below"] if self.below else []
        words += [f" on {self.system}"] if self.system else []
        words += [f" about {self.person}"] if self.person else []
        return "".join(words)


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
    """Return what the checks find, all or some by name; the gravest first."""
    found = told.ask(office).findings
    names = None if only is None else set(only)
    return told.grade(office, (one for one in found if names is None or one.check in names))


def ask_anew(office: Office, only: Iterable[str] | None = None) -> list[Finding]:
    """Run the checks, all or some by name, on an office as it is supposed; nothing of it is looked up or kept."""
    return run_checks(load_facts(office), only)


def ask_for_causes(office: Office, findings: Iterable[GradedFinding]) -> list[Cause]:
    """Return the causes of the findings that the plan does not accept, the gravest first."""
    history = told.History(office)

    def months(finding: Finding) -> int:
        return (office.today - history.since(finding).first).days // _MONTH

    return find_causes((one.finding for one in findings if one.acceptance is None), office.plan, months)


def numbers_about(office: Office, person: str, principals: Iterable[Principal]) -> list[int] | None:
    """Return the numbers of the problems that concern somebody, among all; None where looking for them takes long."""
    if office.is_large:
        return None
    logins = [f"{one.system}:{one.account.login}" for one in principals]
    return [
        number
        for number, cause in enumerate(ask_for_causes(office, ask(office)), start=1)
        if any(is_of(finding, person, logins) for finding in cause.findings)
    ]


def ask_since(office: Office, since: date | None = None, only: Iterable[str] | None = None) -> Compared:
    """Compare the findings with those of an older count, of `since` or the one before; raises `NoCountError`.

    Those of the older one are as they were told then.
    """
    names = None if only is None else set(only)
    older = office.ledger.find_count(since) if since else office.count_before()
    old = {one.subject: one for one in told.ask_then(office, older).findings if names is None or one.check in names}
    new = {one.finding.subject: one for one in ask(office, names)}
    return Compared(
        older,
        [one for key, one in new.items() if key not in old],
        told.grade(office, (one for key, one in old.items() if key not in new)),
    )


def ask_since_when(office: Office, cause: Cause) -> Since:
    """Return between which two days the first findings of a cause came that still stand, deeds apart.

    Counts between that nobody looked at are looked at by halving, by the plan of today: of something that came and
    went several times one coming is told.
    """
    history = told.History(office)
    standing = [one for one in cause.findings if one.happened is None]
    first = min((history.since(one) for one in standing or cause.findings), key=lambda one: one.first)
    if not standing:
        return first
    looked_at = {one.count for one in history.looks}
    known = [
        one
        for one in office.counts_until()
        if one.id not in looked_at and one.day < first.first and (first.before is None or one.day > first.before)
    ]
    if not known:
        return first
    names = {one.check for one in cause.findings}

    def is_there(count: CountInfo) -> bool:
        found = told.grade(office, run_checks(load_facts(told.office_of(office, count)), names))
        return any(
            one.key == cause.key and is_of_space(one.findings[0]) == of_space for one in ask_for_causes(office, found)
        )

    of_space = is_of_space(cause.findings[0])
    low, high = -1, len(known)
    if first.before is None:
        if is_there(known[0]):
            return Since(None, known[0].day)
        low = 0
    while high - low > 1:
        middle = (low + high) // 2
        if is_there(known[middle]):
            high = middle
        else:
            low = middle
    return Since(known[low].day if low >= 0 else first.before, known[high].day if high < len(known) else first.first)


def check_called(name: str) -> str:
    """Return the check that is meant, in any case; raises `UsageError` with the nearest ones."""
    known = one_of(name, CHECKS)
    if known is None:
        raise UsageError(f"there is no check {name!r}", hint=or_else(name, CHECKS, "check --list lists them"))
    return known


def is_cause(word: str) -> bool:
    """Tell whether a word names a problem: by its number, or as the link or hand-out that it is about."""
    return word.isdecimal() or word.startswith(("link:", "hand-out:"))


def find_cause(causes: Sequence[Cause], text: str) -> tuple[int, Cause]:
    """Return a cause by its number in the ranking or by its name, with the number; raises `UnknownNameError`."""
    if text.isdecimal() and 0 < int(text) <= len(causes):
        return int(text), causes[int(text) - 1]
    for number, one in enumerate(causes, start=1):
        if text in (one.key, str(one.place)):
            return number, one
    raise UnknownNameError(
        f"no problem has the number or name {text!r}", hint=f"check lists them, 1 to {len(causes)}"
    )
