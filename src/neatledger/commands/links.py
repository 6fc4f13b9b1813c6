"""``links``: all links and hand-outs, what they give and expose, and what is not in order."""

from __future__ import annotations

import argparse

from neatledger.app import App
from neatledger.cli import days_of
from neatledger.faces.show import show_report
from neatledger.questions import links
from neatledger.reports.links import links_report

__all__ = ["add_arguments", "run"]


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Declare the words of the call."""
    parser.add_argument("-b", "--below", metavar="FOLDER", help="those that lead to this folder or into it")
    parser.add_argument("--over", metavar="FOLDER", help="those that open this folder: that lead to it or above it")
    parser.add_argument("--by", metavar="PERSON", help="those that a person made")
    parser.add_argument("--to", metavar="WHOM", help="those for a person, a group, anyone, guests or office")
    parser.add_argument("--only", choices=("link", "hand-out"), help="links alone, or hand-outs alone")
    parser.add_argument("--lapse-within", type=days_of, metavar="DAYS", help="those that end within so many days")
    parser.add_argument("--live", action="store_true", help="those that open something today")
    parser.add_argument("--not-in-order", "--amiss", action="store_true", help="those that are not in order")


def run(args: argparse.Namespace, app: App) -> int:
    """List them, system after system, those with most not in order first."""
    office = app.office
    wanted = links.OfferFilter(
        below=office.find_folder(args.below) if args.below else None,
        over=office.find_folder(args.over) if args.over else None,
        by=args.by,
        to=args.to,
        sort=args.only,
        ends_within=args.lapse_within,
        is_live=args.live,
        is_not_in_order=args.not_in_order,
    )
    found = links.ask(office, wanted)
    show_report(links_report(found.judged, found.names, found.total, office.day, office.count.when), app.output)
    return 1 if any(one.breaches for one in found.judged) else 0
