"""``check``: test the office against the plan and against good order."""

from __future__ import annotations

import argparse
from collections.abc import Sequence
from dataclasses import dataclass

from neatledger.app import App
from neatledger.cli import day_of
from neatledger.commands.ways import accept
from neatledger.core.checks.contract import Severity
from neatledger.core.checks.table import CHECKS
from neatledger.faces.show import show_report
from neatledger.questions import check, told
from neatledger.questions.ends import mending_of_cause
from neatledger.questions.meant import subjects_of
from neatledger.reports.causes import GROUPS, cause_report, causes_report, grouped_report
from neatledger.reports.findings import checks_report, findings_report
from neatledger.reports.report import Report, count_of

__all__ = ["add_arguments", "run"]


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Declare the words of the call."""
    words = [severity.value for severity in Severity]
    parser.add_argument(
        "words", nargs="*", metavar="N|WHAT",
        help="the number of a problem explains it; a person, folder or system: only what concerns these",
    )  # fmt: skip
    parser.add_argument(
        "--by", choices=("problem", *GROUPS), default="problem", help="count by place, person or check"
    )
    parser.add_argument("--severity", choices=words, default="advice", help="only from this severity on")
    parser.add_argument("--only", action="append", metavar="CHECK", help="only this check; may be given again")
    parser.add_argument("--new", action="store_true", help="only what is new since the count before, or --since")
    parser.add_argument("--gone", action="store_true", help="what is gone since the count before, or --since")
    parser.add_argument("--since", metavar="DATE", type=day_of, help="the older count to compare with; means --new")
    parser.add_argument("--accepted", action="store_true", help="only what the plan accepts")
    parser.add_argument("--accept", metavar="WHY", help="live with it: write that into office.yaml, and why")
    parser.add_argument("--until", metavar="DATE", type=day_of, help="--accept: the last day on which it is accepted")
    parser.add_argument("--yes", action="store_true", help="--accept: without asking")
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
    if args.accept is not None:
        return accept.run(args, app)
    wanted, number = _filter(args, app)
    compared = check.ask_since(app.office, args.since, args.only) if args.new or args.gone or args.since else None
    every = check.ask(app.office)
    if compared is None:
        found: Sequence[told.GradedFinding] = every
    else:
        found = compared.gone if args.gone else compared.new
    found = [one for one in found if wanted.takes(one.finding) and (one.acceptance is not None or not args.accepted)]
    show_report(_report(args, app, _Found(every, found, compared, wanted.spell(), number)), app.output)
    limit = Severity(args.fail_at).rank
    standing = [CHECKS[each.finding.check] for each in found if each.acceptance is None]
    return int(any(one.severity.rank >= limit for one in standing))


def _filter(args: argparse.Namespace, app: App) -> tuple[check.Filter, str]:
    """Return what is asked for, and the number or name of the one problem that is, if any."""
    if len(args.words) == 1 and check.is_cause(args.words[0]):
        return check.Filter(), args.words[0]
    subjects = subjects_of(app.office, args.words)
    person, logins = "", frozenset[str]()
    if subjects.person:
        person, held = subjects.person.id, subjects.person.principals
        logins = frozenset(f"{name}:{one.account.login}" for name, some in held.items() for one in some)
    severity = Severity(args.severity)
    return check.Filter(subjects.folder, person, logins, subjects.system, severity, args.only), ""


@dataclass(frozen=True, slots=True)
class _Found:
    """What was found in all, what of it is asked for, since which count, of what, and the one problem asked for."""

    every: Sequence[told.GradedFinding]
    wanted: Sequence[told.GradedFinding]
    compared: check.Compared | None
    scope: str
    number: str


def _report(args: argparse.Namespace, app: App, found: _Found) -> Report:
    when, since = app.office.count.when, told.History(app.office).since
    every = found.every if not args.gone else found.wanted
    causes = check.ask_for_causes(app.office, every)
    if found.number:
        number, cause = check.find_cause(causes, found.number)
        mending = mending_of_cause(app.office, cause)
        came = check.ask_since_when(app.office, cause)
        return cause_report(
            number, cause, len(causes), came, mending, mending.work.names, app.office.readers, is_all=args.all
        )
    scope, checks = _scope(args, found), len(args.only or CHECKS)
    if args.by != "problem":
        return grouped_report(found.wanted, causes, args.by, since)
    if args.only or args.accepted:
        return findings_report(
            found.wanted, causes, when, since, show_all=args.all or args.accepted, scope=scope, checks=checks
        )
    asked = {id(one.finding) for one in found.wanted}
    numbered = [
        (number, one) for number, one in enumerate(causes, start=1) if any(id(each) in asked for each in one.findings)
    ]
    headline = ""
    if found.compared is not None:
        word = "gone" if args.gone else "new"
        is_are = "is" if len(found.wanted) == 1 else "are"
        many = count_of(len(found.wanted), "finding")
        headline = f"{many}{found.scope} {is_are} {word} since {found.compared.older.when}."
    return causes_report(found.wanted, causes, numbered, when, since, headline=headline, scope=scope, checks=checks)


def _scope(args: argparse.Namespace, found: _Found) -> str:
    """Say of what the findings are that were asked for; nothing where that is everything."""
    words = [found.scope]
    words += [f" of severity {args.severity} and worse"] if args.severity != Severity.ADVICE.value else []
    accepted = sum(one.acceptance is not None for one in found.wanted)
    words += (
        [f", {count_of(accepted, 'finding')} apart that the plan accepts,"]
        if accepted and len(found.wanted) == accepted
        else []
    )
    return "".join(words)
