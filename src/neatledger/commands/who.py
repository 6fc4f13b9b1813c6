"""``who FOLDER``: who can reach a folder, and by what."""

from __future__ import annotations

import argparse

from neatledger.app import App
from neatledger.commands.asking import ask_person, entry_names, location_at, principals_by_person
from neatledger.core.tree.address import Address
from neatledger.faces.show import show_report
from neatledger.ledger.places import Location
from neatledger.reports.report import Report
from neatledger.reports.sides import both_report, differences_at, plan_who_report
from neatledger.reports.who import who_report

__all__ = ["add_arguments", "run"]


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Declare the words of the call."""
    parser.add_argument("folder", metavar="FOLDER", help="a folder or a file, as barn:/Records/2026")
    parser.add_argument("--all", action="store_true", help="also the people who have no right here")


def run(args: argparse.Namespace, app: App) -> int:
    """Answer on the found side, the plan's, or both."""
    address = app.address(args.folder)
    if app.options.side == "plan":
        show_report(plan_who_report(app.plan, address), app)
        return 0
    if app.options.side == "both":
        place = location_at(app.reader(address.system), address)
        people = principals_by_person(app.services.holders[address.system])
        asked = {person: ask_person(app, place, principals) for person, principals in people.items()}
        differences = differences_at(app.plan, place.address, asked)
        show_report(both_report("who", differences, args.folder), app)
        return 1 if any(differences) else 0
    show_report(_found(address, app, is_all=args.all), app)
    return 0


def _found(address: Address, app: App, *, is_all: bool) -> Report:
    reader = app.reader(address.system)
    place = location_at(reader, address)
    address = place.address
    people = principals_by_person(app.services.holders[address.system])
    asked = [ask_person(app, place, principals) for principals in people.values()]
    names = entry_names(reader)
    when = app.count.when
    report = who_report(place.address, asked, names, when, is_all=is_all, machine=app.options.format != "table")
    report.notes += _single_files(app, place)
    return report


def _single_files(app: App, place: Location) -> list[str]:
    """Say how many links and hand-outs open single files of a folder, and not the folder."""
    service = app.services.service(place.address.system)
    if service is None or not place.is_folder:
        return []
    above = place.address.path.rstrip(b"/")
    links = [one.path for one in service.shared.links if one.is_file and not one.why_dead(service.day)]
    handed = [one.path for one in service.shared.hand_outs if one.is_file and one.is_live(service.day)]
    number = sum(path.rpartition(b"/")[0] == above for path in (*links, *handed))
    if not number:
        return []
    message = "link or hand-out opens a single file" if number == 1 else "links and hand-outs open single files"
    return [f"{number} {message} in it: links --live --below tells."]
