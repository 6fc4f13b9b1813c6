"""``groups``: the groups and who is in them, and which would do."""

from __future__ import annotations

import argparse

from neatledger.app import App
from neatledger.commands.ways.written import keep_steps
from neatledger.errors import UsageError
from neatledger.faces.show import show_report
from neatledger.questions.people import groups_of
from neatledger.reports.groups import groups_report

__all__ = ["add_arguments", "run"]


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Declare the words of the call."""
    parser.add_argument("systems", nargs="*", metavar="SYSTEM", help="only groups of these systems")
    parser.add_argument("-a", "--all", action="store_true", help="also groups with one member or none")
    parser.add_argument(
        "--suggest", nargs="?", const="", metavar="N",
        help="the fewest groups that would do, twins and the like; N: what one of these does",
    )  # fmt: skip
    parser.add_argument(
        "--may-gain", type=int, default=0, metavar="N", help="so many people may get something that they have not"
    )
    parser.add_argument("--called", default="", metavar="NAME", help="what a suggested new group is to be called")
    parser.add_argument("--steps", metavar="FILE", help="also write its steps there, for mend FILE")


def run(args: argparse.Namespace, app: App) -> int:
    """List the groups, or suggest others."""
    if args.suggest is not None:
        return _suggest(args, app)
    office, side = app.office, app.options.side
    for name in args.systems:
        office.reader(name)
    known = {} if side == "plan" else groups_of(office)
    groups = {name: some for name, some in known.items() if not args.systems or name in args.systems}
    principals = {} if side == "plan" else office.principals
    report = groups_report(office.plan, groups, principals, side=side, is_all=args.all)
    show_report(report, app.output)
    return 1 if side == "both" and any(row["difference"] for row in report.rows) else 0


def _suggest(args: argparse.Namespace, app: App) -> int:
    from neatledger.questions import grouping, regrouping
    from neatledger.reports.grouping import suggestions_report
    from neatledger.reports.report import count_of
    from neatledger.reports.supposed import supposed_report

    office = app.office
    if not 0 <= args.may_gain <= 3:
        raise UsageError(f"--may-gain {args.may_gain}", hint="0 to 3 people: with more, anything would do")
    with app.progress("looking for groups"):
        found = grouping.ask(office, args.systems, args.may_gain)
    when = office.count.when
    if not args.suggest:
        if args.steps:
            raise UsageError("--steps writes one suggestion's steps", hint="say which: --suggest N")
        show_report(suggestions_report(found.suggestions, found.covers, found.left_out, when), app.output)
        return 0
    if not args.suggest.isdecimal() or not 0 < int(args.suggest) <= len(found.suggestions):
        raise UsageError(f"there is no suggestion {args.suggest}", hint=f"1 to {len(found.suggestions)}")
    one = found.suggestions[int(args.suggest) - 1]
    with app.progress("looking what it would do"):
        made = regrouping.ask(office, one, args.called)
    keep_steps(app, args.steps, made.steps)
    report = supposed_report([f"{one.text} ({count_of(len(made.steps), 'step')})"], made.changes, [], [], [], when)
    report.empty = "nobody gains or loses anything"
    report.notes += [made.note] if made.note else []
    show_report(report, app.output)
    return 0
