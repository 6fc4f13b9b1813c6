"""Findings as a report: the gravest first, with what to do."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence

from neatledger.core.checks.contract import Finding, Severity
from neatledger.core.checks.table import CHECKS
from neatledger.core.plan.plan import Acceptance
from neatledger.reports.report import Cell, Column, Report, Show

__all__ = ["checks_report", "findings_report"]

_COLUMNS = (
    Column("severity", "SEVERITY"),
    Column("check", "CHECK"),
    Column("place", "PLACE", cuts=True),
    Column("evidence", "WHAT WAS FOUND", wraps=True),
    Column("advice", "WHAT TO DO", Show.MACHINE),
    Column("accepted", "ACCEPTED", Show.MACHINE),
)
_MOST_OF_ONE = 12


def findings_report(
    findings: Sequence[tuple[Finding, Acceptance | None]], when: str, *, show_all: bool, machine: bool
) -> Report:
    """Make the report; accepted findings are counted, and shown when asked for or in machine formats."""
    rows: list[Sequence[Cell]] = []
    seen: Counter[str] = Counter()
    left_out: Counter[str] = Counter()
    accepted = 0
    for finding, acceptance in findings:
        accepted += acceptance is not None
        if acceptance is not None and not (show_all or machine):
            continue
        seen[finding.check] += 1
        if not (show_all or machine) and seen[finding.check] > _MOST_OF_ONE:
            left_out[finding.check] += 1
            continue
        check = CHECKS[finding.check]
        why = (
            f"{acceptance.reason}" + (f" (until {acceptance.until})" if acceptance.until else "")
            if acceptance
            else ""
        )
        evidence = f"[accepted: {why}] {finding.evidence}" if why and not machine else finding.evidence
        rows.append(
            (check.severity.value, finding.check, finding.place, evidence, finding.advice or check.advice, why)
        )
    notes = [f"{number} more of {name} (--all shows them)." for name, number in left_out.items()]
    if seen and not machine:
        grave = [name for name in seen if CHECKS[name].severity.rank >= Severity.MEDIUM.rank]
        notes += ["What to do first:", *(f"  {name}: {CHECKS[name].advice}" for name in grave)] if grave else []
    if accepted and not (show_all or machine):
        notes.append(f"{accepted} accepted in the plan and not shown (--all shows them).")
    return Report("check", _headline(findings, when), _COLUMNS, rows, notes, "no findings")


def _headline(findings: Sequence[tuple[Finding, Acceptance | None]], when: str) -> str:
    standing = Counter(CHECKS[finding.check].severity for finding, acceptance in findings if acceptance is None)
    if not standing:
        return f"The office is in order by the count of {when}."
    parts = [f"{standing[severity]} {severity.value}" for severity in reversed(Severity) if standing[severity]]
    total = sum(standing.values())
    return f"{total} {'finding' if total == 1 else 'findings'} in the count of {when}: {', '.join(parts)}."


def checks_report() -> Report:
    """List the checks themselves."""
    columns = (
        Column("check", "CHECK"),
        Column("severity", "SEVERITY"),
        Column("summary", "WHAT IT FINDS", wraps=True),
    )
    rows: list[Sequence[Cell]] = [(each.name, each.severity.value, each.summary) for each in CHECKS.values()]
    return Report("checks", f"{len(rows)} checks.", columns, rows)
