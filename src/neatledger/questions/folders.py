"""Folders with their owners and lists: down to a depth, or one folder with what is right below it."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

from neatledger.core.tree.address import Address
from neatledger.core.tree.columns import SeenState
from neatledger.errors import UnknownNameError
from neatledger.formats.names import show_address
from neatledger.ledger import locations
from neatledger.ledger.locations import locate, unknown_folder
from neatledger.questions.office import Office

__all__ = ["FolderFacts", "ListedFolder", "ask", "ask_one", "is_there"]


@dataclass(frozen=True, slots=True)
class FolderFacts:
    """One folder: its owner's name, its list in words; `odds` counts files with a list unlike their neighbours'."""

    address: Address
    owner: str
    entries: tuple[str, ...]
    children: int
    files: int
    odds: int
    state: SeenState


@dataclass(frozen=True, slots=True)
class ListedFolder:
    """One folder with its list in full, and what lies right below it."""

    address: Address
    owner: str
    entries: tuple[str, ...]
    below: tuple[FolderFacts, ...]


def ask(office: Office, depth: int, *, only_lists: bool = False) -> list[FolderFacts]:
    """Return the folders of all systems down to a depth; or only those whose list is unlike that of the one above."""
    return [
        folder
        for system in office.readers
        for folder in _walk(office, Address(system, b"/"), depth, only_lists=only_lists)
    ]


def ask_one(office: Office, address: Address | str, *, only_lists: bool = False) -> ListedFolder:
    """Return one folder; raises `UnknownNameError` where it was not counted, or is a file."""
    address = office.address(address)
    location = locate(office.reader(address.system), address)
    if not location.is_folder:
        raise UnknownNameError("this is a file", show_address(location.address), "why explains access to files")
    item, names = location.chain[-1], office.names(address.system)
    below = tuple(_walk(office, location.address, 1, only_lists=only_lists))
    return ListedFolder(location.address, names.owner(item.owner), tuple(item.access_list.describe(names)), below)


def is_there(office: Office, address: Address) -> bool | None:
    """Tell whether a folder of the plan was found; None where it may be there and was not seen."""
    reader = office.readers.get(address.system)
    return None if reader is None else locations.is_there(reader, address.path)


def _walk(office: Office, top: Address, depth: int, *, only_lists: bool) -> Iterator[FolderFacts]:
    """Walk down `depth` levels from a folder, a folder at a time."""
    reader, names = office.reader(top.system), office.names(top.system)
    folders, missing = reader.find_path(top.path)
    if missing is not None:
        raise unknown_folder(reader, top, "folder")

    def visit(row: int, path: bytes, left: int, above: int | None) -> Iterator[FolderFacts]:
        folder = reader.folder(row)
        if not only_lists or folder.list != above:
            access_list = reader.terms.model.parse(reader.list_body(folder.list))
            yield FolderFacts(
                Address(top.system, path or b"/"),
                names.owner(folder.owner),
                tuple(access_list.describe(names)),
                len(folder.children),
                sum(each["files"] for each in reader.class_rows(folder.classes)),
                len(folder.odds),
                folder.state,
            )
        if left:
            for child in folder.children:
                yield from visit(child, path + b"/" + reader.folder(child).name, left - 1, folder.list)

    yield from visit(folders[-1].row, top.path if top.path != b"/" else b"", depth, None)
