"""``check``: test the office against the plan and against good order."""

from __future__ import annotations

import argparse
from collections.abc import Sequence
from typing import TypedDict

from neatledger.app import App
from neatledger.cli import day_of
from neatledger.core.checks.contract import Severity
from neatledger.core.checks.table import CHECKS
from neatledger.errors import UsageError
from neatledger.faces.show import show_report
from neatledger.questions import check, told
from neatledger.questions.ends import mending_of_cause
from neatledger.reports.causes import GROUPS, cause_report, causes_report, grouped_report
from neatledger.reports.findings import checks_report, findings_report
from neatledger.reports.report import Report, count_of

__all__ = ["add_arguments", "run"]


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Declare the words of the call."""
    words = [severity.value for severity in Severity]
    parser.add_argument(
        "--cause", metavar="N", help="one cause whole, by its number or name: why it ranks, what mends it"
    )
    parser.add_argument("-n", "--top", type=int, default=10, metavar="N", help="how many causes are shown (10)")
    parser.add_argument("--by", choices=("cause", *GROUPS), default="cause", help="count by place, person or check")
    parser.add_argument("-b", "--below", metavar="FOLDER", help="only what lies in this folder and below")
    parser.add_argument("-p", "--person", metavar="WHO", help="only what concerns this person")
    parser.add_argument("--system", metavar="NAME", help="only one system")
    parser.add_argument("--severity", choices=words, default="advice", help="only from this severity on")
    parser.add_argument("--only", action="append", metavar="CHECK", help="only this check; may be given again")
    parser.add_argument("--new", action="store_true", help="only what is new since the count before, or --since")
    parser.add_argument("--gone", action="store_true", help="what is gone since the count before, or --since")
    parser.add_argument("--since", metavar="DATE", type=day_of, help="the older count to compare with; means --new")
    parser.add_argument("-a", "--all", action="store_true", help="every finding, also the accepted ones")
    parser.add_argument("--list", action="store_true", help="list the checks")
    parser.add_argument(
        "--fail-at", choices=words, default="low", metavar="SEVERITY",
        help=f"exit status 1 from this severity on: {', '.join(words)} (default low)",
    )  # fmt: skip


def run(args: argparse.Namespace, app: App) -> int:
    """Run the checks; the exit status is 1 where a finding that is not accepted is grave enough."""
    if args.list:
        show_report(checks_report(), app.output)
        return 0
    args.only = [check.check_called(name) for name in args.only] if args.only else None
    wanted = _filter(args, app)
    compared = check.ask_since(app.office, args.since, args.only) if args.new or args.gone or args.since else None
    if compared is None:
        found: Sequence[told.GradedFinding] = check.ask(app.office, args.only)
    else:
        found = compared.gone if args.gone else compared.new
    found = [one for one in found if wanted.takes(one.finding)]
    show_report(_report(args, app, found, compared), app.output)
    limit = Severity(args.fail_at).rank
    standing = [CHECKS[each.finding.check] for each in found if each.acceptance is None]
    return int(any(one.severity.rank >= limit for one in standing))


def _filter(args: argparse.Namespace, app: App) -> check.Filter:
    person, logins = "", frozenset[str]()
    if args.person:
        found = app.office.find_person(args.person)
        person = found.id
        logins = frozenset(f"{name}:{one.account.login}" for name, some in found.principals.items() for one in some)
    if args.system and args.system not in app.office.plan.systems:
        raise UsageError(
            f"no system is named {args.system!r}", hint=f"there are: {', '.join(app.office.plan.systems)}"
        )
    below = app.office.find_folder(args.below) if args.below else None
    return check.Filter(below, person, logins, args.system or "", Severity(args.severity), args.only)


class _Asked(TypedDict):
    scope: str
    checks: int


def _report(
    args: argparse.Namespace, app: App, found: Sequence[told.GradedFinding], compared: check.Compared | None
) -> Report:
    when, since = app.office.count.when, told.History(app.office).since
    asked = _Asked(scope=_scope(args, found), checks=len(args.only or CHECKS))
    causes = check.ask_for_causes(app.office, found)
    if args.cause:
        number, cause = check.find_cause(causes, args.cause)
        mending = mending_of_cause(app.office, cause)
        came = check.ask_since_when(app.office, cause)
        return cause_report(number, cause, len(causes), came, mending, mending.work.names, app.office.readers)
    if args.by != "cause":
        return grouped_report(found, causes, args.by, when, since)
    if args.all or args.only:
        return findings_report(found, causes, when, since, show_all=args.all, **asked)
    headline = ""
    if compared is not None:
        word = "gone" if args.gone else "new"
        is_are = "is" if len(found) == 1 else "are"
        headline = f"{count_of(len(found), 'finding')} {is_are} {word} since {compared.older.when}."
    return causes_report(found, causes, when, since, first=args.top, headline=headline, **asked)


def _scope(args: argparse.Namespace, found: Sequence[told.GradedFinding]) -> str:
    """Say of what the findings are that were asked for; nothing where that is everything."""
    words = [f" in {args.below} and below"] if args.below else []
    words += [f" on {args.system}"] if args.system else []
    words += [f" about {args.person}"] if args.person else []
    words += [f" from {args.severity} on"] if args.severity != Severity.ADVICE.value else []
    accepted = sum(one.acceptance is not None for one in found)
    words += [f", {count_of(accepted, 'finding')} apart that the plan accepts,"] if accepted else []
    return "".join(words)
