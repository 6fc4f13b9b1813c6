"""The table of access as CSV or JSON lines of text, made fast: parts of lines are made once and joined."""

from __future__ import annotations

import json
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from math import prod

import numpy as np
from numpy.typing import NDArray

from neatledger.core.access.everyone import FLAG_RIGHTS, Everyone, RowBlock, flag_rights
from neatledger.core.lists.rights import Level, Right, level_of
from neatledger.core.tree.address import Address
from neatledger.core.tree.table import Table, folder_paths
from neatledger.faces.machine import csv_field, whole_text
from neatledger.formats.names import encode_address
from neatledger.reports.access import ACCESS_COLUMNS
from neatledger.reports.report import Show

__all__ = ["CSV_HEAD", "LineMaker"]

_KEPT = [column.key for column in ACCESS_COLUMNS if column.show is not Show.PEOPLE and column.key != "by"]
CSV_HEAD = ",".join(_KEPT) + "\n"
_SHOWN = (Right.ENTER, Right.LIST, Right.ADD, Right.DELETE, Right.MANAGE)
_LOOKS = Right.READ | Right.VIEW
_UNKNOWN = 1 << len(FLAG_RIGHTS)


@dataclass(slots=True)
class LineMaker:
    """Makes the lines of one system's table, as CSV or as JSON objects.

    `any` rows of people with a single way are repeated from that way, so that a reader who keeps to
    ``way == any`` has everyone.
    """

    system: str
    everyone: Everyone
    folders: Table
    is_json: bool

    def lines(self, blocks: Iterator[RowBlock]) -> Iterator[str]:
        """Yield text of many lines each."""
        path_of = folder_paths(self.folders)
        heads = [self._head(place) for place in range(len(self.everyone.columns))]
        for block in blocks:
            if len(block.folder):
                yield self._block_text(block, path_of, heads)

    def _head(self, place: int) -> tuple[str, tuple[str, ...]]:
        """Return the part of a line before the folder, and the ways of the lines to write."""
        column = self.everyone.columns[place]
        if not column.principals:
            return "", (column.way,)
        principals = [self.everyone.matrix.principals[principal] for principal in column.principals]
        person, account = (
            whole_text(principals[0].person),
            "+".join(whole_text(principal.account.login) for principal in principals),
        )
        ways = (
            (column.way, "any")
            if place < len(self.everyone.single) and self.everyone.single[place]
            else (column.way,)
        )
        if self.is_json:
            head = {"person": person, "account": account, "system": self.system}
            return json.dumps(head, ensure_ascii=False)[:-1], ways
        return f"{csv_field(person)},{csv_field(account)},{csv_field(self.system)}", ways

    def _folder(self, path: bytes) -> str:
        address = encode_address(Address(self.system, path))
        return f', "folder": {json.dumps(address, ensure_ascii=False)}' if self.is_json else f",{csv_field(address)}"

    def _tail(self, way: str, flags: int, files: Sequence[int]) -> str:
        is_unknown = bool(flags & _UNKNOWN)
        rights = flag_rights(flags)
        level = Level.UNKNOWN if is_unknown else level_of(rights)
        if self.is_json:
            shown: dict[str, object] = {"way": way, "level": level.value}
            for right in _SHOWN:
                shown[(right.name or "").lower()] = None if is_unknown else bool(rights & right)
            for key, number in zip(("files", "files_read", "files_change", "files_delete"), files, strict=True):
                shown[key] = None if number < 0 else number
            shown["read"] = None if is_unknown else bool(rights & Right.READ)
            shown["view"] = None if is_unknown else bool(rights & _LOOKS)
            return ", " + json.dumps(shown)[1:]
        bits = ",".join("" if is_unknown else str(int(bool(rights & right))) for right in _SHOWN)
        counts = ",".join("" if number < 0 else str(number) for number in files)
        looks = "," if is_unknown else f"{int(bool(rights & Right.READ))},{int(bool(rights & _LOOKS))}"
        return f",{way},{level.value},{bits},{counts},{looks}"

    def _block_text(
        self, block: RowBlock, path_of: Callable[[int], bytes], heads: list[tuple[str, tuple[str, ...]]]
    ) -> str:
        rows, folder_place = np.unique(block.folder, return_inverse=True)
        folders = [self._folder(path_of(row)) for row in rows.tolist()]
        numbers = np.stack([block.flags | block.unknown * _UNKNOWN, block.files, *block.counts], axis=1)
        kinds, kind_place = _distinct(numbers)
        ways = sorted({way for _, of_column in heads for way in of_column})
        tails = {way: [self._tail(way, row[0], row[1:]) for row in kinds.tolist()] for way in ways}
        # One string a column and kind of row: head and tail around the folder.
        both = [
            (head, tails[of_column[0]], tails[of_column[1]] if len(of_column) > 1 else None)
            for head, of_column in heads
        ]
        end = ",\n" if self.is_json else "\n"
        out: list[str] = []
        add = out.append
        for place, column, kind in zip(
            folder_place.tolist(), block.column.tolist(), kind_place.tolist(), strict=True
        ):
            head, first, second = both[column]
            start = head + folders[place]
            if second is None:
                add(start + first[kind])
            else:
                add(start + first[kind] + end + start + second[kind])
        return end.join(out) + end


def _distinct(numbers: NDArray[np.int64]) -> tuple[NDArray[np.int64], NDArray[np.intp]]:
    """Return the distinct rows of a matrix of numbers, and for each row which one it is."""
    whole, numbers = numbers, numbers - numbers.min(axis=0, initial=0)
    radixes = [int(most) + 1 for most in numbers.max(axis=0, initial=0)]
    key = np.zeros(len(numbers), dtype=np.int64)
    if prod(radixes) < 1 << 62:
        for column, radix in zip(numbers.T, radixes, strict=True):
            key = key * radix + column
    else:
        for column in numbers.T:
            _, place = np.unique(column, return_inverse=True)
            _, key = np.unique(key * (int(place.max()) + 1) + place, return_inverse=True)
    _, first, which = np.unique(key, return_index=True, return_inverse=True)
    return whole[first], which
