"""``inherit FOLDER``: what a new item gets there, and what pushing its list down would change."""

from __future__ import annotations

import argparse

from neatledger.app import App
from neatledger.commands.asking import entry_names, find_person, location_at
from neatledger.core.lists.contract import Maker
from neatledger.core.tree.address import Address
from neatledger.errors import UnknownNameError
from neatledger.faces.show import show_report
from neatledger.formats.names import show_address
from neatledger.ledger.places import Location
from neatledger.ledger.reader import SurveyReader
from neatledger.reports.inherit import new_child_report, push_report
from neatledger.reports.report import Report

__all__ = ["add_arguments", "run"]


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Declare the words of the call."""
    parser.add_argument("folder", metavar="FOLDER", help="the folder, as loft:/Surgery")
    parser.add_argument("--made-by", metavar="PERSON", help="who makes the new item (else the folder's owner)")
    parser.add_argument("--push", action="store_true", help="what pushing the folder's list down would change")
    parser.add_argument(
        "--keep-own",
        action="store_true",
        help="with --push: entries of their own stay, and closed folders as they are",
    )


def run(args: argparse.Namespace, app: App) -> int:
    """Answer from the count; nothing is changed anywhere."""
    address = app.address(args.folder)
    reader = app.reader(address.system)
    place = location_at(reader, address)
    if not place.is_folder:
        raise UnknownNameError("this is a file", show_address(place.address), "only folders pass anything on")
    default = None if place.folder.default < 0 else reader.list_body(place.folder.default)
    if args.push:
        show_report(_push(place, reader, default, app, keeps_own=args.keep_own), app)
    else:
        show_report(_new(place, reader, default, args.made_by, app), app)
    return 0


def _new(place: Location, reader: SurveyReader, default: bytes | None, person: str | None, app: App) -> Report:
    names, model = entry_names(reader), place.terms.model
    maker, made_by = Maker(place.folder.owner, ""), names.owner(place.folder.owner)
    if person:
        made_by, principals = find_person(app, person)
        if place.address.system not in principals:
            raise UnknownNameError(
                f"{made_by} has no account on {place.address.system}", hint="people lists everyone"
            )
        account = principals[place.address.system][0].account
        maker = Maker(account.ident, account.primary)
    body = reader.list_body(place.folder.list)
    parts = []
    for is_folder in (True, False):
        made = model.new_child(body, default, maker, is_folder=is_folder)
        parts.append(model.parse(made).describe(names, is_folder=is_folder))
    notes = [f"The folder's own list: {'; '.join(model.parse(body).describe(names))}."]
    if reader.terms.model.has_defaults and default is None:
        notes.append("The folder has no default list: a new item has the mode that the usual umask 022 leaves.")
    return new_child_report(show_address(place.address), made_by, parts[0], parts[1], notes)


def _push(place: Location, reader: SurveyReader, default: bytes | None, app: App, *, keeps_own: bool) -> Report:
    from neatledger.commands.whole import load_everyone
    from neatledger.core.access.pushing import push_down
    from neatledger.core.tree.table import folder_paths

    if reader.terms.model.has_defaults and default is None:
        where = show_address(place.address)
        raise UnknownNameError("the folder has no default list, so it passes nothing on", where, "give it one first")
    everyone = load_everyone(app.services, reader, app.principals[reader.system])
    path_of = folder_paths(everyone.matrix.folders)
    bodies = reader.strings("lists.body")
    pushed = [
        (Address(reader.system, path_of(one.row)), one)
        for one in push_down(everyone.matrix, bodies, default, place.folder.row, keeps_own=keeps_own)
    ]
    machine = app.options.format != "table"
    return push_report(show_address(place.address), pushed, entry_names(reader), keeps_own=keeps_own, machine=machine)
