"""``check``: test the office against the plan and against good order."""

from __future__ import annotations

import argparse
from collections.abc import Iterable

from neatledger.app import App
from neatledger.commands.facts import load_office
from neatledger.core.checks.contract import Finding, Office, Severity
from neatledger.core.checks.table import CHECKS, find_acceptance, run_checks
from neatledger.core.plan.plan import Acceptance
from neatledger.core.tree.address import Address
from neatledger.errors import UsageError
from neatledger.faces.show import show_report
from neatledger.formats.names import encode_address
from neatledger.reports.findings import checks_report, findings_report

__all__ = ["add_arguments", "graded_findings", "run"]


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Declare the words of the call."""
    words = [severity.value for severity in Severity]
    parser.add_argument(
        "--fail-at", choices=words, default="low", metavar="SEVERITY",
        help=f"exit status 1 from this severity on: {', '.join(words)} (default low)",
    )  # fmt: skip
    parser.add_argument("--only", action="append", metavar="CHECK", help="only this check; may be given again")
    parser.add_argument("--all", action="store_true", help="every finding, also the accepted ones")
    parser.add_argument("--list", action="store_true", help="list the checks")


def run(args: argparse.Namespace, app: App) -> int:
    """Run the checks; the exit status is 1 where a finding that is not accepted is grave enough."""
    if args.list:
        show_report(checks_report(), app)
        return 0
    for name in args.only or ():
        if name not in CHECKS:
            raise UsageError(f"there is no check {name!r}", hint="check --list lists them")
    office = load_office(app)
    found = graded_findings(office, args.only)
    when = app.count.when
    show_report(findings_report(found, when, show_all=args.all, machine=app.options.format != "table"), app)
    limit = Severity(args.fail_at).rank
    return int(any(kept is None and CHECKS[each.check].severity.rank >= limit for each, kept in found))


def graded_findings(office: Office, only: Iterable[str] | None) -> list[tuple[Finding, Acceptance | None]]:
    """Run the checks, all or some by name; return each finding with the plan's acceptance of it, if any."""
    return [(each, find_acceptance(each, _place(each), office)) for each in run_checks(office, only)]


def _place(finding: Finding) -> str:
    return encode_address(finding.place) if isinstance(finding.place, Address) else finding.place
