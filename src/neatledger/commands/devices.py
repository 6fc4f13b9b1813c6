"""``devices``: which devices hold copies of what, and which give cause for worry."""

from __future__ import annotations

import argparse

from neatledger.app import App
from neatledger.commands.ways import synced
from neatledger.errors import UsageError
from neatledger.faces.show import show_report
from neatledger.questions import devices
from neatledger.reports.guests import devices_report

__all__ = ["add_arguments", "run"]


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Declare the words of the call."""
    parser.add_argument("person", metavar="PERSON", nargs="?", help="only those of one person")
    parser.add_argument(
        "--would-hold", action="store_true", help="what a device of theirs would hold if it synced all"
    )


def run(args: argparse.Namespace, app: App) -> int:
    """List the devices of every system that tells of them."""
    if args.would_hold:
        if not args.person:
            raise UsageError("whose device?", hint="devices PERSON --would-hold")
        return synced.run(args, app)
    found = devices.ask(app.office, args.person)
    show_report(devices_report(found, app.office.count.when), app.output)
    return 1 if any(one.faults for one in found) else 0
