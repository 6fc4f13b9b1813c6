"""``check``: test the office against the plan and against good order."""

from __future__ import annotations

import argparse

from neatledger.app import App
from neatledger.core.checks.contract import Severity
from neatledger.core.checks.table import CHECKS
from neatledger.errors import UsageError
from neatledger.faces.show import show_report
from neatledger.questions import check
from neatledger.reports.findings import checks_report, findings_report

__all__ = ["add_arguments", "run"]


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
        show_report(checks_report(), app.output)
        return 0
    for name in args.only or ():
        if name not in CHECKS:
            raise UsageError(f"there is no check {name!r}", hint="check --list lists them")
    found = check.ask(app.office, args.only)
    show_report(findings_report(found, app.office.count.when, show_all=args.all), app.output)
    limit = Severity(args.fail_at).rank
    standing = [CHECKS[each.finding.check] for each in found if each.acceptance is None]
    return int(any(one.severity.rank >= limit for one in standing))
