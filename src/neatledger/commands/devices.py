"""``devices``: which devices hold copies of what, and which give cause for worry."""

from __future__ import annotations

import argparse

from neatledger.app import App
from neatledger.commands.sharing import services_of
from neatledger.core.sharing.devices import amiss_of_device
from neatledger.faces.show import show_report
from neatledger.reports.guests import devices_report

__all__ = ["add_arguments", "run"]


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Declare the words of the call."""
    parser.add_argument("--of", metavar="PERSON", help="only those of one person")


def run(args: argparse.Namespace, app: App) -> int:
    """List the devices of every system that tells of them."""
    found = []
    owners: dict[str, str] = {}
    for _, service in services_of(app):
        owners |= {principal.account.login: principal.person for principal in service.principals}
        for device in service.shared.devices:
            if args.of in (None, device.owner, owners.get(device.owner)):
                amiss = amiss_of_device(device, service, app.plan, app.services.day)
                found.append((service.system, device, [message for _, message in amiss]))
    machine = app.options.format != "table"
    show_report(devices_report(found, owners, app.count.when, machine=machine), app)
    return 1 if any(amiss for _, _, amiss in found) else 0
