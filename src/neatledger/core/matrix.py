"""Everyone's rights on every folder at once.

People are bits: every right is an array of 64-bit words, `words` a folder, holder number i being bit
i % 64 of word i // 64. Each distinct list is evaluated once for everyone, in two forms (nobody owns the
item; each as if owning it), and spread over the folders by index; the right to enter is carried down the
tree level by level. Nothing of the size folders × people is ever held but in bits, and only the reach of
all folders at once: rights are worked out for a block of folders when asked.

The rules are those of `access.py`; a property test compares the two cell by cell.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property
from typing import Any

import numpy as np
from numpy.typing import NDArray

from neatledger.core.columns import SeenState
from neatledger.core.holders import Crowd
from neatledger.core.lists.contract import ListModel, ListView, RightSets
from neatledger.core.people import Seat
from neatledger.core.rights import EVERY_RIGHT, Right
from neatledger.core.survey import Table

__all__ = ["Bits", "Block", "Matrix", "pack_sets"]

Bits = NDArray[np.uint64]
Rows = NDArray[np.signedinteger[Any]]

_FOLDER = (
    Right.ENTER,
    Right.LIST,
    Right.READ,
    Right.ADD,
    Right.MANAGE,
    Right.CLEAR,
    Right.CLEAR_OWN,
    Right.DELETE,
)
_FILE = (Right.READ, Right.CHANGE)
_CHUNK = 65536


def pack_sets(sets: Sequence[int], words: int) -> Bits:
    """Pack bit sets (Python integers) into rows of 64-bit words."""
    raw = b"".join(each.to_bytes(words * 8, "little") for each in sets)
    return np.frombuffer(raw, dtype=np.uint64).reshape(len(sets), words)


@dataclass(slots=True)
class _Spread:
    """One right of every distinct list: for people who do not own the item (None: nobody), and for its owner."""

    other: Bits | None
    owner: Bits

    def at(self, lists: Rows, owned: Bits) -> Bits:
        """Return the right for items by their list and the bits of their owner."""
        if self.other is None:
            return self.owner[lists] & owned
        # (other & ~owned) | (owner & owned), in fewer steps
        other: Bits = self.other[lists]
        mine: Bits = self.owner[lists]
        mine ^= other
        mine &= owned
        mine ^= other
        return mine


@dataclass(slots=True)
class _Standing:
    """Some items as lists see them: the numbers of their lists, and the bits of their owners."""

    lists: Rows
    owned: Bits


@dataclass(slots=True)
class Block:
    """Rights of all people on some folders: right → bits, and what could not be judged."""

    rights: dict[Right, Bits]
    unknown: NDArray[np.bool_]


class Matrix:
    """The rights of `seats` in a tree.

    Arguments: the list model; the tables of folders and file classes; the bodies of the lists and the
    identifiers that owners' numbers stand for; whether the system is mounted read-only. Raises
    `FormatError` where a stored list is damaged.
    """

    def __init__(
        self,
        model: ListModel,
        folders: Table,
        classes: Table,
        lists: Sequence[bytes],
        idents: Sequence[str],
        seats: Sequence[Seat],
        *,
        read_only: bool = False,
    ) -> None:
        self.model = model
        self.folders = folders
        self.classes = classes
        self.seats = tuple(seats)
        self.read_only = read_only
        self.crowd = Crowd([seat.holder for seat in seats])
        self.words = max(1, (len(self.seats) + 63) // 64)
        self._lists = lists
        self._parsed: dict[int, object] = {}
        self._idents = idents
        self._folder_lists = self._spread(folders["list"], _FOLDER, is_folder=True)
        self._owned = pack_sets([self.crowd.by_user.get(ident, 0) for ident in idents], self.words)
        overrides = [model.overrides(seat.holder) for seat in seats]
        self.admins = sum(1 << number for number, given in enumerate(overrides) if given)
        usable = sum(1 << number for number, seat in enumerate(seats) if seat.is_open)
        self._open: Bits = pack_sets([usable], self.words)[0]
        self.admin_bits: Bits = pack_sets([self.admins & usable], self.words)[0]

    @cached_property
    def _file_lists(self) -> dict[Right, _Spread]:
        return self._spread(self.classes["list"], _FILE, is_folder=False)

    def _spread(self, used: NDArray[np.int32], rights: Sequence[Right], *, is_folder: bool) -> dict[Right, _Spread]:
        sets: dict[Right, list[list[int]]] = {right: [[0] * len(self._lists) for _ in range(2)] for right in rights}
        for number in np.flatnonzero(np.bincount(used)).tolist():
            parsed = self._parse(number)
            for form, as_owner in enumerate((False, True)):
                found: RightSets = self.model.decide_all(parsed, self.crowd, is_folder=is_folder, as_owner=as_owner)
                for right, bits in found.items():
                    if bits and right in sets:
                        sets[right][form][number] = bits
        return {
            right: _Spread(pack_sets(other, self.words) if any(other) else None, pack_sets(owner, self.words))
            for right, (other, owner) in sets.items()
            if any(other) or any(owner)
        }

    def _parse(self, number: int) -> object:
        if number not in self._parsed:
            self._parsed[number] = self.model.parse(self._lists[number])
        return self._parsed[number]

    def _stand(self, rows: Rows) -> _Standing:
        return _Standing(self.folders["list"][rows], self._owned[self.folders["owner"][rows]])

    def _own(self, right: Right, standing: _Standing) -> Bits:
        spread = self._folder_lists.get(right)
        if spread is None:
            return np.zeros((len(standing.lists), self.words), dtype=np.uint64)
        return spread.at(standing.lists, standing.owned)

    def own(self, right: Right, rows: Rows) -> Bits:
        """Return what the own lists of some folders say of a right."""
        return self._own(right, self._stand(rows))

    @cached_property
    def levels(self) -> list[tuple[int, int]]:
        """The first and end row of every depth; folders are numbered breadth-first."""
        first, children = self.folders["first_child"], self.folders["children"]
        found, start, end = [], 0, min(1, self.folders.rows)
        while start < end:
            found.append((start, end))
            below = int(children[start:end].sum(dtype=np.int64))
            start, end = (int(first[start]), int(first[start]) + below) if below else (end, end)
        return found

    @cached_property
    def passing(self) -> Bits:
        """Who gets inside each folder by its lists: may reach it, and enter it; row a folder."""
        parent = self.folders["parent"]
        inside = np.empty((self.folders.rows, self.words), dtype=np.uint64)
        for level, (first, last) in enumerate(self.levels):
            for start in range(first, last, _CHUNK):
                end = min(start + _CHUNK, last)
                block = self.own(Right.ENTER, np.arange(start, end))
                block &= inside[parent[start:end]] if level else self._open
                inside[start:end] = block
        return inside

    @cached_property
    def doubtful(self) -> NDArray[np.bool_]:
        """Folders whose own list, or one above them, was not seen."""
        doubt: NDArray[np.bool_] = self.folders["state"] == SeenState.LIST_UNKNOWN
        if doubt.any():
            parent = self.folders["parent"]
            for first, last in self.levels[1:]:
                doubt[first:last] |= doubt[parent[first:last]]
        return doubt

    def block(self, rows: Rows) -> Block:
        """Return the rights of the way ``share`` on the folders `rows`."""
        above = self.folders["parent"][rows]
        is_root = above < 0
        parent = np.maximum(above, 0)
        reach = self.passing[parent]
        reach[is_root] = self._open
        here, over = self._stand(rows), self._stand(parent)
        rights: dict[Right, Bits] = {Right.ENTER: self.passing[rows]}
        for right in (Right.LIST, Right.READ, Right.ADD, Right.MANAGE, Right.DELETE):
            rights[right] = self._own(right, here)
            rights[right] &= reach
        delete = self._own(Right.CLEAR, over)
        if Right.CLEAR_OWN in self._folder_lists:
            delete |= self._own(Right.CLEAR_OWN, over) & here.owned
        delete &= reach
        rights[Right.DELETE] |= delete
        rights[Right.DELETE][is_root] = 0
        if self.read_only:
            for right in (Right.ADD, Right.MANAGE, Right.DELETE):
                rights[right][:] = 0
        return Block(rights, self.doubtful[rows])

    def admin_rights(self) -> Right:
        """Return what the way ``admin`` gives everywhere (but for the root, which cannot be removed)."""
        if self.read_only:
            return Right.ENTER | Right.LIST | Right.READ
        return EVERY_RIGHT & ~Right.CLEAR_OWN

    def file_bits(self, folder: Rows, lists: Rows, owner: Rows) -> dict[Right, Bits]:
        """Return who may read, change and delete files, by their folder, list and owner (a row each)."""
        owned = self._owned[owner]
        inside = self.passing[folder]
        found: dict[Right, Bits] = {}
        for right in _FILE:
            spread = self._file_lists.get(right)
            found[right] = np.zeros_like(inside) if spread is None else spread.at(lists, owned) & inside
        over = self._stand(folder)
        clear = self._own(Right.CLEAR, over) | (self._own(Right.CLEAR_OWN, over) & owned)
        found[Right.DELETE] = clear & inside
        if self.read_only:
            found[Right.CHANGE][:] = 0
            found[Right.DELETE][:] = 0
        return found

    def view(self, number: int, *, is_folder: bool) -> ListView:
        """Return what the checks want to know of a list."""
        return self.model.view(self._parse(number), is_folder=is_folder)

    @property
    def idents(self) -> Sequence[str]:
        """The identifiers that owners' numbers stand for."""
        return self._idents
