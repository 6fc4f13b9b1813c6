"""``groups``: the groups and who is in them."""

from __future__ import annotations

import argparse

from neatledger.app import App
from neatledger.faces.show import show_report
from neatledger.questions.people import groups_of
from neatledger.reports.groups import groups_report

__all__ = ["add_arguments", "run"]


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Declare the words of the call."""
    parser.add_argument("-a", "--all", action="store_true", help="also groups with one member or none")


def run(args: argparse.Namespace, app: App) -> int:
    """List the groups."""
    office, side = app.office, app.options.side
    groups = {} if side == "plan" else groups_of(office)
    principals = {} if side == "plan" else office.principals
    report = groups_report(office.plan, groups, principals, side=side, is_all=args.all)
    show_report(report, app.output)
    return 1 if side == "both" and any(row["difference"] for row in report.rows) else 0
