"""``groups``: the groups and who is in them, and which would do."""

from __future__ import annotations

import argparse
from collections.abc import Mapping, Sequence

from neatledger.app import App
from neatledger.commands.ways.written import keep_steps
from neatledger.core.survey.accounts import Group
from neatledger.errors import UnknownNameError, UsageError
from neatledger.faces.show import show_report
from neatledger.formats.nearest import find_named, one_of
from neatledger.questions import Office
from neatledger.questions.people import groups_of
from neatledger.reports.groups import groups_report, of_groups

__all__ = ["add_arguments", "run"]


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Declare the words of the call."""
    parser.add_argument("words", nargs="*", metavar="GROUP|SYSTEM", help="only these groups, or those of systems")
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
    known = {} if side == "plan" else groups_of(office)
    systems, names = _meant(args.words, office, known)
    groups = {name: some for name, some in known.items() if not systems or name in systems}
    principals = {} if side == "plan" else office.principals
    report = groups_report(office.plan, groups, principals, side=side, is_all=args.all or bool(names))
    if names:
        missing = [name for name, called in names.items() if not any(row["group"] in called for row in report.rows)]
        if missing:
            where = f" on {' and '.join(systems)}" if systems else ""
            raise UnknownNameError(f"no group {missing[0]}{where} was found", hint="groups lists what there is")
        report = of_groups(report, names)
    show_report(report, app.output)
    return 1 if side == "both" and any(row["difference"] for row in report.rows) else 0


def _meant(
    words: Sequence[str], office: Office, groups: Mapping[str, Sequence[Group]]
) -> tuple[list[str], dict[str, set[str]]]:
    """Return the systems and the groups that are meant, a group with its names on systems."""
    called: dict[str, set[str]] = {group.name: set() for known in groups.values() for group in known}
    called |= {name: set(group.names.values()) for name, group in office.plan.groups.items()}
    systems = [system for word in words if (system := one_of(word, office.plan.systems))]
    # What is called as a system is the system.
    names = [find_named(word, "group", called) for word in words if one_of(word, office.plan.systems) is None]
    return systems, {name: {name, *called[name]} for name in names}


def _suggest(args: argparse.Namespace, app: App) -> int:
    from neatledger.questions import grouping, regrouping
    from neatledger.reports.grouping import suggestions_report
    from neatledger.reports.report import count_of
    from neatledger.reports.supposed import supposed_report

    office = app.office
    if not 0 <= args.may_gain <= 3:
        raise UsageError(f"--may-gain {args.may_gain}", hint="0 to 3 people: with more, anything would do")
    with app.progress("looking for groups"):
        found = grouping.ask(office, [office.find_system(word) for word in args.words], args.may_gain)
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
