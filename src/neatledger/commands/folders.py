"""``folders [FOLDER]``: folders with their owners and lists; one folder's list in full."""

from __future__ import annotations

import argparse

from neatledger.app import App
from neatledger.commands.asking import entry_names, location_at
from neatledger.core.lists.table import MODELS
from neatledger.core.tree.address import Address
from neatledger.errors import UnknownNameError
from neatledger.faces.show import show_report
from neatledger.formats.names import show_address
from neatledger.ledger.reader import SurveyReader
from neatledger.reports.folders import FolderRow, folder_report, folders_report
from neatledger.reports.sides import plan_folders_report

__all__ = ["add_arguments", "run"]


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Declare the words of the call."""
    parser.add_argument("folder", metavar="FOLDER", nargs="?", help="this folder's list, and what is right below it")
    parser.add_argument("--depth", type=int, default=2, metavar="N", help="how far down to list (default 2)")
    parser.add_argument(
        "--lists", action="store_true", help="only folders whose list is unlike that of the one above"
    )


def run(args: argparse.Namespace, app: App) -> int:
    """List folders of all systems, or look at one."""
    if app.options.side != "found":
        there = None if app.options.side == "plan" else _is_there(app)
        show_report(plan_folders_report(app.plan, there), app)
        return 1 if there is not None and not all(there.values()) else 0
    if args.folder:
        address = app.address(args.folder)
        reader = app.reader(address.system)
        place = location_at(reader, address)
        address = place.address
        if not place.is_folder:
            raise UnknownNameError("this is a file", show_address(address), "why explains access to files")
        item, names = place.chain[-1], entry_names(reader)
        entries = item.access_list.describe(names)
        owner = names.owner(item.owner)
        below = _rows(reader, address, 1, only_lists=args.lists)
        show_report(folder_report(address, owner, entries, below), app)
        return 0
    rows = []
    for system, reader in app.readers.items():
        rows += _rows(reader, Address(system, b"/"), args.depth, only_lists=args.lists)
    show_report(folders_report(rows, args.depth), app)
    return 0


def _is_there(app: App) -> dict[Address, bool]:
    found = {}
    for folder in app.plan.folders:
        reader = app.readers.get(folder.address.system)
        found[folder.address] = reader is not None and reader.find_path(folder.address.path)[1] is None
    return found


def _rows(reader: SurveyReader, top: Address, depth: int, *, only_lists: bool) -> list[FolderRow]:
    """Walk down `depth` levels from a folder, a folder at a time."""
    folders, missing = reader.find_path(top.path)
    if missing is not None:
        raise UnknownNameError("no folder of this name was counted", show_address(top))
    model, names = MODELS[reader.model], entry_names(reader)
    found: list[FolderRow] = []

    def visit(row: int, path: bytes, left: int, above: int | None) -> None:
        folder = reader.folder(row)
        if not only_lists or folder.list != above:
            entries = model.parse(reader.list_body(folder.list)).describe(names)
            files = sum(each["files"] for each in reader.class_rows(folder.classes))
            found.append(
                FolderRow(
                    Address(reader.system, path or b"/"),
                    names.owner(folder.owner),
                    tuple(entries),
                    len(folder.children),
                    files,
                    len(folder.odds),
                    folder.state,
                )
            )
        if left:
            for child in folder.children:
                visit(child, path + b"/" + reader.folder(child).name, left - 1, folder.list)

    start = folders[-1]
    visit(start.row, top.path if top.path != b"/" else b"", depth, None)
    return found
