"""Findings as a report: the gravest first, with what to do."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Sequence
from datetime import date
from typing import Protocol

from neatledger.core.checks.causes import Cause
from neatledger.core.checks.contract import Finding, Severity
from neatledger.core.checks.table import CHECKS
from neatledger.core.plan.plan import Acceptance
from neatledger.reports.assurances import Said, assured
from neatledger.reports.report import Aside, Column, Report, Row, Show, count_of, day_cell

__all__ = [
    "COLUMNS",
    "Came",
    "Graded",
    "SinceOf",
    "alike",
    "checks_report",
    "finding_row",
    "findings_report",
    "since_words",
    "told_together",
]

COLUMNS = (
    Column("severity", "SEVERITY"),
    Column("check", "CHECK", cuts=True),
    Column("place", "PLACE", cuts=True),
    Column("evidence", "WHAT WAS FOUND", wraps=True),
    Column("advice", "WHAT TO DO", Show.MACHINE),
    Column("since", "SINCE", Show.MACHINE),
    Column("not_before", "", Show.MACHINE),
    Column("accepted", "ACCEPTED", Show.MACHINE),
    Column("cause", "", Show.MACHINE),
    Column("exposure", "", Show.MACHINE),
    Column("people", "", Show.MACHINE),
)
_MOST_OF_ONE = 12


class Graded(Protocol):
    """A finding with the plan's acceptance of it, if any."""

    @property
    def finding(self) -> Finding: ...
    @property
    def acceptance(self) -> Acceptance | None: ...


class Came(Protocol):
    """Since when a finding is told: not yet on one day (None: nobody looked before), but on the other."""

    @property
    def before(self) -> date | None: ...
    @property
    def first(self) -> date: ...


SinceOf = Callable[[Finding], Came]


def since_words(came: Came) -> str:
    """Say since when in a word or two: ``by`` where nobody had looked before."""
    return f"by {came.first}" if came.before is None else str(came.first)


def findings_report(
    findings: Sequence[Graded],
    causes: Sequence[Cause],
    when: str,
    since: SinceOf,
    *,
    show_all: bool,
    scope: str = "",
    checks: int = len(CHECKS),
) -> Report:
    """Make the report; for people, accepted findings are counted, and so is what comes too often of one check.

    `scope` says what was asked for, where that is not everything, and `checks` is how many were asked.
    """
    cause_of = {id(finding): one for one in causes for finding in one.findings}
    rows = [finding_row(each, since(each.finding), cause_of.get(id(each.finding))) for each in findings]
    shown = _folded(findings, since, show_all=show_all)
    standing = Counter(each.finding.check for each in findings if each.acceptance is None)
    accepted = len(findings) - standing.total()
    notes: list[str] = []
    if not show_all:
        open_ = [one.finding for one in findings if one.acceptance is None]
        rows_of = Counter(open_[some[0]].check for some in alike(open_))
        folded = {name: number - _MOST_OF_ONE for name, number in rows_of.items() if number > _MOST_OF_ONE}
        notes += [Aside(f"{number} more of {name} (--all shows them).") for name, number in folded.items()]
    seen = dict.fromkeys(row["check"] for row in shown)
    grave = [name for name in map(str, seen) if CHECKS[name].severity.rank >= Severity.MEDIUM.rank]
    if grave:
        notes += [Aside("What to do first:"), *(Aside(f"  {name}: {CHECKS[name].advice}") for name in grave)]
    if accepted and not show_all:
        notes.append(Aside(f"{accepted} accepted in the plan and not shown (--all shows them)."))
    said = clean(not standing, _headline(findings, when), scope, checks, when)
    return Report("check", said.text, COLUMNS, rows, notes, "no findings", shown, said.is_assured)


def clean(is_clean: bool, otherwise: str, scope: str, checks: int, when: str) -> Said:
    """Say that no check that was asked has a finding, in the scope that was asked for, or else something."""
    words = {"scope": scope, "checks": count_of(checks, "check"), "when": when}
    said = assured("check", is_clean, otherwise, **words)
    return Said(f"{said.text}.", True) if said.is_assured else said


def _why(acceptance: Acceptance | None) -> str:
    if acceptance is None:
        return ""
    return acceptance.reason + (f" (until {acceptance.until})" if acceptance.until else "")


def finding_row(each: Graded, came: Came, cause: Cause | None = None) -> Row:
    """Return a finding as a record, with since when it is told and the cause that it stands under."""
    check = CHECKS[each.finding.check]
    return {
        "severity": check.severity.value,
        "check": each.finding.check,
        "place": each.finding.place,
        "evidence": each.finding.evidence,
        "advice": each.finding.advice or check.advice,
        "since": day_cell(came.first),
        "not_before": day_cell(came.before),
        "accepted": _why(each.acceptance),
        "cause": cause.key if cause else "",
        "exposure": cause.exposure.points if cause else 0,
        "people": each.finding.people,
    }


def _folded(findings: Sequence[Graded], since: SinceOf, *, show_all: bool) -> list[Row]:
    standing = [one for one in findings if show_all or one.acceptance is None]
    shown: list[Row] = []
    seen: Counter[str] = Counter()
    for some in alike([one.finding for one in standing], [_why(one.acceptance) for one in standing]):
        first = standing[some[0]]
        seen[first.finding.check] += 1
        if show_all or seen[first.finding.check] <= _MOST_OF_ONE:
            row, why = finding_row(first, since(first.finding)), _why(first.acceptance)
            evidence = told_together([standing[number].finding for number in some])
            shown.append({**row, "evidence": f"[accepted: {why}] {evidence}" if why else evidence})
    return shown


def alike(findings: Sequence[Finding], more: Sequence[str] = ()) -> list[list[int]]:
    """Return findings, by their places, in groups that say the same of one folder and several people.

    `more` tells of each what else must be the same.
    """
    groups: dict[tuple[str, str, str, str], list[int]] = {}
    for number, one in enumerate(findings):
        subject, _, rest = one.evidence.partition(" ")
        # What does not begin with the one whom it is about stands alone.
        same = rest if one.people == (subject,) else f"\0{number}"
        groups.setdefault((one.check, str(one.place), same, more[number] if more else ""), []).append(number)
    return list(groups.values())


def told_together(some: Sequence[Finding]) -> str:
    """Return the evidence of findings that say the same of several people."""
    first = some[0].evidence
    if len(some) == 1:
        return first
    return f"{', '.join(one.people[0] for one in some)}: each {first.partition(' ')[2]}"


def _headline(findings: Sequence[Graded], when: str) -> str:
    standing = Counter(CHECKS[each.finding.check].severity for each in findings if each.acceptance is None)
    parts = [f"{standing[severity]} {severity.value}" for severity in reversed(Severity) if standing[severity]]
    return f"{count_of(standing.total(), 'finding')} in the count of {when}: {', '.join(parts)}."


def checks_report() -> Report:
    """List the checks themselves."""
    columns = (
        Column("check", "CHECK"),
        Column("severity", "SEVERITY"),
        Column("summary", "WHAT IT FINDS", wraps=True),
    )
    rows = [
        {"check": each.name, "severity": each.severity.value, "summary": each.summary} for each in CHECKS.values()
    ]
    return Report("checks", f"{len(rows)} checks.", columns, rows)
