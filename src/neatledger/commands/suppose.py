"""``suppose``: what an imagined change would do: to limits, room and dates, or to what is shared."""

from __future__ import annotations

import argparse

from neatledger.app import App
from neatledger.errors import UsageError
from neatledger.faces.show import show_report

__all__ = ["add_arguments", "run"]


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Declare the words of the call."""
    parser.add_argument(
        "--limit",
        action="append",
        default=[],
        metavar="PLACE=SIZE",
        help="a limit on a folder, person, group or pool",
    )
    parser.add_argument("--band", action="append", default=[], metavar="BAND=SIZE", help="a band restated")
    parser.add_argument(
        "--join", action="append", default=[], metavar="SYSTEM=N", help="so many people joining a system"
    )
    parser.add_argument(
        "--move", action="append", default=[], metavar="FOLDER=POOL", help="a folder moved to another pool"
    )
    parser.add_argument(
        "--keep", action="append", default=[], metavar="SYSTEM=N", help="another number of kept versions"
    )
    parser.add_argument(
        "--take-back",
        action="append",
        default=[],
        metavar="WHAT",
        help="link:ID, hand-out:ID, member:FOLDER=HOLDER or guest:LOGIN: who then loses what",
    )
    parser.add_argument(
        "--rule", action="append", default=[], metavar="SETTING=VALUE", help="a sharing rule: what it would catch"
    )
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
    if args.take_back or args.rule:
        from neatledger.commands.supposedsharing import suppose_rules, suppose_taking_back

        sharing = args.take_back
        report = suppose_taking_back(app, sharing) if sharing else suppose_rules(app, args.rule, args.rule_for)
    else:
        from neatledger.commands.supposedspace import suppose_space

        report = suppose_space(args, app)
    show_report(report, app)
    return 0
