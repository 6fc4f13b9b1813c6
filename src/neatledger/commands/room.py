"""``room PERSON FOLDER``: how much this person can still put there, and what stops first."""

from __future__ import annotations

import argparse

from neatledger.app import App
from neatledger.commands.asking import ask_person, entry_names, find_person, location_at
from neatledger.commands.holdings import load_lines, load_views
from neatledger.core.lists.contract import Maker
from neatledger.core.lists.rights import Right
from neatledger.core.people.principals import Principal
from neatledger.core.space.room import Room, find_room
from neatledger.core.tree.address import Address
from neatledger.errors import UnknownNameError
from neatledger.faces.show import show_report
from neatledger.formats.names import show_address
from neatledger.ledger.places import Location
from neatledger.reports.room import room_report

__all__ = ["add_arguments", "ask_room", "group_of_new", "refusal_of", "run"]


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Declare the words of the call."""
    parser.add_argument("person", metavar="PERSON", help="a person's id, login or name")
    parser.add_argument("folder", metavar="FOLDER", help="the folder, as barn:/Imaging")


def run(args: argparse.Namespace, app: App) -> int:
    """Work the room out from the count."""
    show_report(room_report(ask_room(app, args.person, app.address(args.folder)), app.count.when), app)
    return 0


def ask_room(app: App, name: str, address: Address) -> Room:
    """Return a person's room in a folder; raises `UnknownNameError`."""
    person, everywhere = find_person(app, name)
    place = location_at(app.reader(address.system), address)
    if not place.is_folder:
        raise UnknownNameError("this is a file", show_address(place.address), "name the folder that it is in")
    principals = everywhere.get(address.system, [])
    lines = load_lines(app, load_views(app))
    group = group_of_new(app, place, principals) if principals else ""
    return find_room(
        app.plan, lines, person, place.address, group, refusal_of(app, place, principals, person), app.today
    )


def refusal_of(app: App, place: Location, principals: list[Principal], person: str) -> str:
    """Return why a person may not add files in a folder, "" where they may."""
    if not principals:
        return f"{person} has no account on {place.address.system}"
    access = ask_person(app, place, principals)
    if access.rights & Right.ADD:
        return ""
    if not access.is_known:
        return "whether they may add files here is not known (why tells)"
    return "they may not add files here (why tells by which gate)"


def group_of_new(app: App, place: Location, principals: list[Principal]) -> str:
    """Return the name of the group that a new file of theirs belongs to there, "" where the system keeps none."""
    reader = app.reader(place.address.system)
    default = None if place.folder.default < 0 else reader.list_body(place.folder.default)
    account = principals[0].account
    maker = Maker(account.ident, account.primary)
    body = place.terms.model.new_child(reader.list_body(place.folder.list), default, maker, is_folder=False)
    ident = place.terms.model.group_of(body)
    return entry_names(reader).groups.get(ident, ident)
