"""One folder or file of a count, made ready for the question who can reach it; reads a path, not the tree."""

from __future__ import annotations

import os
from collections.abc import Callable
from dataclasses import dataclass, replace

from neatledger.core.access.shares import SystemTerms
from neatledger.core.access.tree_gates import Item
from neatledger.core.access.ways import FileClass
from neatledger.core.lists.contract import AccessList
from neatledger.core.tree.address import Address
from neatledger.core.tree.columns import FolderFacts, SeenState, kind_of, kinds_of
from neatledger.core.tree.unseen import may_be_unseen
from neatledger.errors import UnknownNameError
from neatledger.formats.names import decode_address
from neatledger.formats.nearest import nearest
from neatledger.ledger.reader import SurveyReader

__all__ = ["Location", "find_location", "is_there", "locate", "nearest_folders", "unknown_folder"]


@dataclass(frozen=True, slots=True)
class Location:
    """A folder, or a file in one: the chain from the root to it, and what it holds.

    `files` is None where the contents were not seen. `note` says what a file's answer rests on.
    """

    address: Address
    folder: FolderFacts
    chain: tuple[Item, ...]
    files: tuple[FileClass, ...] | None
    is_folder: bool
    terms: SystemTerms
    note: str = ""


def is_there(reader: SurveyReader, path: bytes) -> bool | None:
    """Tell whether a folder was found; None where it may be there and was not seen."""
    chain, missing = reader.find_path(path)
    if missing is None:
        return True
    return None if may_be_unseen(Address(reader.system, path), chain[-1].state, reader.not_seen) else False


def locate(reader: SurveyReader, address: Address) -> Location:
    """Find a folder or file by its address as typed, or as machine formats write it (percent-encoded).

    Raises `UnknownNameError` where the count has neither.
    """
    decoded = Address(address.system, decode_address(os.fsdecode(address.path)))
    try:
        location = find_location(reader, address)
    except UnknownNameError:
        if decoded == address:
            raise
        return find_location(reader, decoded)
    if location.note and decoded != address:
        # An ordinary file's name cannot be told from a folder's name that a machine format has encoded.
        try:
            other = find_location(reader, decoded)
        except UnknownNameError:
            return location
        return other if not other.note else location
    return location


def find_location(reader: SurveyReader, address: Address) -> Location:
    """Find a folder or a file by its path; raises `UnknownNameError` where the count has neither."""
    model = reader.terms.model
    parsed: dict[int, AccessList] = {}

    def parse(number: int) -> AccessList:
        if number not in parsed:
            parsed[number] = model.parse(reader.list_body(number))
        return parsed[number]

    folders, missing = reader.find_path(address.path)
    chain, path = [], b""
    for folder in folders:
        path = path + b"/" + folder.name if folder.name else b""
        chain.append(Item(path or b"/", parse(folder.list), folder.owner, folder.state))
    here = folders[-1]
    if missing is not None:
        above = Location(address, here, tuple(chain), None, True, reader.terms)
        return _find_file(reader, above, parse, len(folders) - 1)
    files = _count_sorts(reader, here)
    classes = tuple(FileClass(parse(number), owner, count) for (number, owner), count in files.items())
    seen = here.state is SeenState.WHOLE
    return Location(address, here, tuple(chain), classes if seen else None, True, reader.terms)


def unknown_folder(reader: SurveyReader, address: Address, what: str = "folder or file") -> UnknownNameError:
    """Return the error for a folder that was not counted, with those that are nearest to it in name."""
    where = f"{address.system}:{os.fsdecode(address.path)}"
    found = [f"{one.system}:{os.fsdecode(one.path)}" for one in nearest_folders(reader, address)]
    hint = f"did you mean {' or '.join(found)}?" if found else "folders lists what there is"
    return UnknownNameError(f"no {what} of this name was counted", where, hint)


def nearest_folders(reader: SurveyReader, address: Address) -> list[Address]:
    """Return the folders that lie where one does that was not counted, and whose names are most like its."""
    chain, missing = reader.find_path(address.path)
    if missing is None:
        return []
    start = b"".join(b"/" + part for part in address.parts[: len(chain) - 1])
    names = nearest(os.fsdecode(missing), reader.child_names(chain[-1]))
    return [Address(address.system, start + b"/" + os.fsencode(name)) for name in names]


def _count_sorts(reader: SurveyReader, folder: FolderFacts) -> dict[tuple[int, str], int]:
    """Return how many files of a folder have each list and owner."""
    counts: dict[tuple[int, str], int] = {}
    for row in reader.class_rows(folder.classes):
        key = row["list"], reader.ident(row["owner"])
        counts[key] = counts.get(key, 0) + row["files"]
    return counts


def _find_file(reader: SurveyReader, above: Location, parse: Callable[[int], AccessList], depth: int) -> Location:
    address, here = above.address, above.folder
    parts = address.parts
    if len(parts) != depth + 1 or not here.classes:
        raise unknown_folder(reader, address)
    odd = reader.find_odd(here, parts[-1])
    if odd is None and not kind_of(parts[-1]) and nearest_folders(reader, address):
        # A word without an ending, of which no count knows a file: a folder of nearly this name is meant.
        raise unknown_folder(reader, address)
    if odd is not None:
        item = Item(address.path, parse(odd.list), odd.owner)
        return replace(above, chain=(*above.chain, item), is_folder=False)
    # The usual sort of file is the one that no file kept by name has.
    counts = _count_sorts(reader, here)
    odd_sorts = reader.odd_sorts(here)
    (number, owner), usual = next(each for each in counts.items() if each[0] not in odd_sorts)
    kinds = kinds_of(parts[-1])
    if not any(
        reader.kind(row["kind"]) in kinds and row["list"] == number for row in reader.class_rows(here.classes)
    ):
        raise unknown_folder(reader, address)
    item = Item(address.path, parse(number), owner)
    note = f"names of ordinary files are not kept: judged by the list that {usual} files of this folder share"
    near = nearest_folders(reader, address)
    if near:
        note += f"; the folder {near[0].system}:{os.fsdecode(near[0].path)} is called nearly so"
    return replace(above, chain=(*above.chain, item), is_folder=False, note=note)
