"""Folders as people write them: by address, by the path on this machine, by the end of their path, in any case."""

from __future__ import annotations

import os
from collections.abc import Iterable, Mapping
from pathlib import Path

from neatledger.core.plan.plan import Plan
from neatledger.core.tree.address import Address
from neatledger.formats.names import decode_address, read_shown
from neatledger.formats.nearest import nearest, one_of
from neatledger.ledger.reader import SurveyReader

__all__ = ["by_local_path", "by_unique_end", "forms_of", "nearest_by_name", "settled"]

_MOST_SEARCHED = 2_000_000
_MOST_NAMES = 500
"""So many names of one folder are compared with one that nobody knows."""


def by_local_path(plan: Plan, folder: Path, text: str) -> Address | None:
    """Return the folder that an absolute path of this machine is in the plan, by the trees that are read here."""
    path = Path(os.path.abspath(Path(text).expanduser()))
    for name, system in plan.systems.items():
        if system.source != "tree" or "path" not in system.settings:
            continue
        root = Path(os.path.abspath(folder / str(system.settings["path"])))
        if path == root or root in path.parents:
            parts = os.fsencode(path.relative_to(root)).split(b"/")
            return Address(name, b"/" + b"/".join(part for part in parts if part != b"."))
    return None


def forms_of(address: Address) -> tuple[Address, ...]:
    """Return what an address may mean: as it is written, as machines write names, and as people are shown them."""
    text = os.fsdecode(address.path)
    written = (decode_address(text), os.fsencode(read_shown(text)))
    return (address, *(Address(address.system, path) for path in written if path != address.path))


def nearest_by_name(readers: Mapping[str, SurveyReader], text: str) -> list[str]:
    """Return the addresses of folders, in the upper two levels, whose names are most like what was written."""
    parts = [part for part in text.replace("\\", "/").split("/") if part]
    if len(parts) > 1 and (system := one_of(parts[0], readers)):
        # The colon was forgotten.
        return [f"{system}:/{'/'.join(parts[1:])}"]
    called: dict[str, str] = {}
    for system, reader in readers.items():
        top = reader.folder(0)
        for name in reader.child_names(top)[:_MOST_NAMES]:
            called.setdefault(name, f"{system}:/{name}")
            row = reader.find_child(top, os.fsencode(name))
            for inner in reader.child_names(reader.folder(row))[:_MOST_NAMES] if row is not None else ():
                called.setdefault(inner, f"{system}:/{name}/{inner}")
    return [called[name] for name in nearest(parts[-1] if parts else "", called)]


def settled(reader: SurveyReader, address: Address) -> Address:
    """Return the folder that is meant: as it is written where there is one, else the only one in another case."""
    for one in forms_of(address):
        if reader.find_row(one.path) is not None:
            return one
    found = reader.folder(0)
    path = b""
    parts = address.parts
    for place, name in enumerate(parts):
        row = reader.find_child(found, name)
        if row is None:
            alike = [one for one in reader.child_names(found) if one.casefold() == os.fsdecode(name).casefold()]
            if len(alike) != 1:
                # It may be a file: what it is called is not kept.
                rest = b"/".join(parts[place:])
                return Address(address.system, path + b"/" + rest) if path and len(parts) - place == 1 else address
            name = os.fsencode(alike[0])
            row = reader.find_child(found, name)
            assert row is not None, "it is among the children"
        found = reader.folder(row)
        path += b"/" + name
    return Address(address.system, path)


def by_unique_end(readers: Mapping[str, SurveyReader], text: str) -> list[Address]:
    """Return the folders whose path ends as is written; in another case only where none has the very one."""
    parts = [part for part in os.fsencode(text).split(b"/") if part]
    if not parts:
        return []
    for is_exact in (True, False):
        found = [address for name, reader in readers.items() for address in _ending(name, reader, parts, is_exact)]
        if found:
            return found
    return []


def _ending(system: str, reader: SurveyReader, parts: list[bytes], is_exact: bool) -> Iterable[Address]:
    # Whole tables need more than a path does, and what reads them is not in every install.
    from neatledger.core.tree.table import folder_paths

    folders = reader.table("folders")
    if folders.rows > _MOST_SEARCHED:
        return
    names, parent = folders.texts("name"), folders["parent"]
    wanted = parts if is_exact else [_folded(part) for part in parts]
    path_of = None
    for row, name in enumerate(names):
        if (name if is_exact else _folded(name)) != wanted[-1] or not row:
            continue
        here, is_end = row, True
        for part in reversed(wanted[:-1]):
            here = int(parent[here])
            if here <= 0 or (names[here] if is_exact else _folded(names[here])) != part:
                is_end = False
                break
        if is_end:
            path_of = path_of or folder_paths(folders)
            yield Address(system, path_of(row))


def _folded(name: bytes) -> bytes:
    return os.fsencode(os.fsdecode(name).casefold())
