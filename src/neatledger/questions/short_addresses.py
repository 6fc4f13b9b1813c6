"""Long addresses in a short form that can be typed again: the system, an ellipsis, and the fewest last names.

What is short is read where it is written: `ending` finds the folders of the count that end as is said.
"""

from __future__ import annotations

import os
from collections.abc import Iterable, Mapping, Sequence

from neatledger.core.tree.address import Address
from neatledger.formats.names import show_address, show_bytes
from neatledger.ledger.reader import SurveyReader

__all__ = ["ELLIPSES", "end_of", "ending", "shortened"]

ELLIPSES = ("…", "...")
"""What stands for the names that are left out; the first is how it is shown."""


def end_of(text: str) -> tuple[str, tuple[bytes, ...]] | None:
    """Return the system and the last names that a short address says; None where it is none."""
    system, colon, path = text.partition(":")
    if not colon:
        system, path = "", text
    parts = [part for part in path.split("/") if part]
    if len(parts) < 2 or parts[0] not in ELLIPSES:
        return None
    return system, tuple(map(os.fsencode, parts[1:]))


def ending(readers: Mapping[str, SurveyReader], parts: Sequence[bytes]) -> list[Address]:
    """Return the folders whose path ends in some names, or the files that may be: their folder ends so."""
    found = _folders_ending(readers, parts)
    if found or len(parts) < 2:
        return found
    name = parts[-1]
    folders = _folders_ending(readers, parts[:-1])
    return [Address(one.system, one.path.rstrip(b"/") + b"/" + name) for one in folders]


def _folders_ending(readers: Mapping[str, SurveyReader], parts: Sequence[bytes]) -> list[Address]:
    found = []
    for system, reader in readers.items():
        rows = reader.rows_named([parts[-1]])[parts[-1]]
        found += [Address(system, reader.path_of(row)) for row in rows if reader.has_end(row, parts)]
    return found


def shortened(readers: Mapping[str, SurveyReader], addresses: Iterable[Address]) -> dict[Address, str]:
    """Return for each address the shortest form that means it and nothing else in the count; whole where none does.

    Files are known by their folders: what lies in the folder that ends so.
    """
    by_system: dict[str, list[Address]] = {}
    for address in addresses:
        by_system.setdefault(address.system, []).append(address)
    found: dict[Address, str] = {}
    for system, listed in by_system.items():
        reader = readers.get(system)
        # Where a folder is really called like what stands for names that are left out, nothing is.
        if reader is None or reader.find_row(b"/" + os.fsencode(ELLIPSES[0])) is not None:
            found |= {address: show_address(address) for address in listed}
            continue
        rows = {address: reader.find_row(address.path) for address in listed}
        last = {name for address in listed for name in address.parts[-2:]}
        named = reader.rows_named(last)
        for address in listed:
            is_folder = rows[address] is not None
            names = _shortest(reader, named, address, is_folder=is_folder)
            found[address] = (
                f"{system}:/{ELLIPSES[0]}/{show_bytes(b'/'.join(names))}" if names else show_address(address)
            )
    return found


def _shortest(
    reader: SurveyReader, named: Mapping[bytes, Sequence[int]], address: Address, *, is_folder: bool
) -> tuple[bytes, ...]:
    """Return the fewest last names that are those of one address; none where only the whole path is."""
    parts = address.parts
    for length in range(1 if is_folder else 2, len(parts)):
        end = parts[-length:]
        folders = named.get(end[-1], ())
        alike = sum(1 for row in _first_two(reader, folders, end))
        if is_folder and alike == 1:
            return end
        if not is_folder and not alike:
            parents = named.get(end[-2], ())
            if sum(1 for row in _first_two(reader, parents, end[:-1])) == 1:
                return end
    return ()


def _first_two(reader: SurveyReader, rows: Sequence[int], parts: Sequence[bytes]) -> list[int]:
    """Return two at most of the rows whose paths end in some names: more than one is not unique."""
    found: list[int] = []
    for row in rows:
        if reader.has_end(row, parts):
            found.append(row)
            if len(found) > 1:
                break
    return found
