"""``suppose``: what an imagined change would do: to limits, room and dates, or to what is shared."""

from __future__ import annotations

import argparse

from neatledger.app import App
from neatledger.errors import UsageError
from neatledger.faces.show import show_report
from neatledger.formats.words import parse_pair, parse_pairs, parse_size_limit, parse_whole
from neatledger.reports.report import Report

__all__ = ["add_arguments", "run"]


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Declare the words of the call."""
    for word, form, help_text in (
        ("--limit", "PLACE=SIZE", "a limit on a folder, person, group or pool"),
        ("--band", "BAND=SIZE", "a band restated"),
        ("--join", "SYSTEM=N", "so many people joining a system"),
        ("--move", "FOLDER=POOL", "a folder moved to another pool"),
        ("--keep", "SYSTEM=N", "another number of kept versions"),
        ("--take-back", "WHAT", "link:ID, hand-out:ID, member:FOLDER=HOLDER or guest:LOGIN: who then loses what"),
        ("--rule", "SETTING=VALUE", "a sharing rule: what it would catch"),
    ):
        parser.add_argument(word, action="append", default=[], metavar=form, help=help_text)
    parser.add_argument(
        "--rule-for", default="office", metavar="PLACE", help="a folder, system or person (default: the office)"
    )
    parser.add_argument("--room", nargs=2, metavar=("PERSON", "FOLDER"), help="also the room that this person has")


def run(args: argparse.Namespace, app: App) -> int:
    """Answer about space, or about what is shared."""
    of_space = [*args.limit, *args.band, *args.join, *args.move, *args.keep]
    if bool(of_space) + bool(args.take_back) + bool(args.rule) > 1:
        raise UsageError("suppose one thing at a time: of space, --take-back, or --rule")
    # Each sort of question imports only what it needs: forecasts are slow to load.
    report = _take_back(args, app) if args.take_back else _rule(args, app) if args.rule else _space(args, app)
    show_report(report, app.output)
    return 0


def _take_back(args: argparse.Namespace, app: App) -> Report:
    from neatledger.questions import suppose_sharing
    from neatledger.reports.takeback import takeback_report

    return takeback_report(suppose_sharing.ask_take_back(app.office, args.take_back), app.office.count.when)


def _rule(args: argparse.Namespace, app: App) -> Report:
    from neatledger.formats.shared import rule_from_words
    from neatledger.questions import suppose_sharing
    from neatledger.reports.links import supposed_rule_report

    try:
        rule = rule_from_words(parse_pair(word, "--rule SETTING=VALUE") for word in args.rule)
    except ValueError as error:
        raise UsageError(str(error), hint="see docs/sharing.md") from None
    found = suppose_sharing.ask_rule(app.office, rule, args.rule_for)
    caught, office = found.caught, app.office
    where = found.rule.describe()
    words = ", ".join(args.rule)
    return supposed_rule_report(
        caught.judged, caught.names, caught.total, office.day, office.count.when, words, where
    )


def _space(args: argparse.Namespace, app: App) -> Report:
    from neatledger.questions import suppose_space
    from neatledger.reports.suppose import (
        outlooks_beside,
        promises_beside,
        rooms_beside,
        statuses_beside,
        suppose_report,
    )

    supposed = suppose_space.Supposition(
        limits=parse_pairs(args.limit, "--limit PLACE=SIZE", parse_size_limit),
        bands=parse_pairs(args.band, "--band BAND=SIZE", parse_size_limit),
        joining=parse_pairs(args.join, "--join SYSTEM=N", parse_whole),
        moves=parse_pairs(args.move, "--move FOLDER=POOL", str),
        versions=parse_pairs(args.keep, "--keep SYSTEM=N", parse_whole),
        room=tuple(args.room) if args.room else None,
    )
    found = suppose_space.ask(app.office, supposed, is_of_plan=app.is_of_plan)
    beside = statuses_beside(found.before.statuses, found.after.statuses) + promises_beside(*found.promises)
    beside += rooms_beside(*found.rooms) if found.rooms else []
    beside += outlooks_beside(found.outlooks)
    return suppose_report(beside, found.sentences, found.after.notes, app.office.count.when)
