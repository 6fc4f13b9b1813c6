"""``groups``: the groups and who is in them."""

from __future__ import annotations

import argparse

from neatledger.app import App
from neatledger.faces.show import show_report
from neatledger.reports.groups import groups_report

__all__ = ["add_arguments", "run"]


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Declare the words of the call."""
    parser.add_argument("--all", action="store_true", help="also groups with one member or none")


def run(args: argparse.Namespace, app: App) -> int:
    """List the groups."""
    side = app.options.side
    groups = {} if side == "plan" else {system: reader.groups for system, reader in app.readers.items()}
    principals = {} if side == "plan" else app.principals
    is_all = args.all or app.options.format != "table"
    report = groups_report(app.plan, groups, principals, side=side, is_all=is_all)
    show_report(report, app)
    return 1 if side == "both" and any(row[-1] for row in report.rows) else 0
