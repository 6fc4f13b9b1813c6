"""``devices``: which devices hold copies of what, and which give cause for worry."""

from __future__ import annotations

import argparse

from neatledger.app import App
from neatledger.faces.show import show_report
from neatledger.questions import devices
from neatledger.reports.guests import devices_report

__all__ = ["add_arguments", "run"]


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Declare the words of the call."""
    parser.add_argument("--of", metavar="PERSON", help="only those of one person")


def run(args: argparse.Namespace, app: App) -> int:
    """List the devices of every system that tells of them."""
    found = devices.ask(app.office, args.of)
    show_report(devices_report(found, app.office.count.when), app.output)
    return 1 if any(one.faults for one in found) else 0
