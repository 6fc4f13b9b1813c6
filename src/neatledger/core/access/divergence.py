"""Where what was found is not what the plan means, on every folder that the plan's word reaches, each once.

A folder that the plan does not name has what the nearest one above it has. So what differs on a folder the same way
as on the one above it is told there; folders that the plan names stand for themselves.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from neatledger.core.access.bits import Bits, has_bit, pack_sets, positions, principal_bit, rights_of_cell
from neatledger.core.access.differences import COMPARED, Difference, FilesFound
from neatledger.core.access.everyone import FLAG_RIGHTS, Everyone
from neatledger.core.access.people_flags import FILE_SORT, class_rows
from neatledger.core.lists.rights import Right
from neatledger.core.plan.plan import Plan
from neatledger.core.tree.address import Address
from neatledger.core.tree.table import folder_paths

__all__ = ["Divergence", "divergences"]

_CHUNK = 16384
_BEYOND = tuple(COMPARED & ~Right.MANAGE)
# What is told of a folder by right: that it is lacking, and whether also that it is had beyond the plan.
_STATES = [
    (right, is_beyond) for right in COMPARED for is_beyond in (False, True) if not is_beyond or right in _BEYOND
]


@dataclass(frozen=True, slots=True)
class Divergence:
    """One difference, with the row of its folder; `is_planned` says that the plan names that folder itself."""

    row: int
    difference: Difference
    is_planned: bool


def divergences(
    plan: Plan, system: str, everyone: Everyone, people: Mapping[str, Sequence[int]], top: int = 0
) -> Iterator[Divergence]:
    """Yield what differs, folders in reading order.

    Arguments: everyone's rights on the system; the people to look at, with the numbers of their principals, the ways
    of administrators left out; the folder at and below which to look.
    """
    word = _Word(plan, system, everyone, people)
    below = everyone.rows_below(top)
    rows = below[(everyone.may_differ | word.is_planned | word.has_other_files)[below] & (word.region[below] >= 0)]
    for start in range(0, len(rows), _CHUNK):
        yield from word.differing(rows[start : start + _CHUNK])


@dataclass(frozen=True, slots=True)
class _FileBits:
    """Who may do what with sorts of files: of the folder at a `place`, so many files, and bits by person."""

    place: NDArray[np.int64]
    files: NDArray[np.int64]
    read: Bits
    change: Bits
    unsure: Bits


class _Word:
    """What the plan says of every folder of a system, beside what was found."""

    def __init__(self, plan: Plan, system: str, everyone: Everyone, people: Mapping[str, Sequence[int]]) -> None:
        self._matrix = everyone.matrix
        folders = self._matrix.folders
        self._path_of, self._system = folder_paths(folders), system
        self._parent = folders["parent"]
        self.is_planned = np.zeros(folders.rows, dtype=bool)
        self.region = np.full(folders.rows, -1, dtype=np.int64)
        self._places: list[Address] = []
        for folder in plan.folders:
            address = folder.address
            row = None if address.system != system or b"*" in address.path else self._matrix.find_row(address.parts)
            if row is not None:
                self.region[row] = len(self._places)
                self.is_planned[row] = True
                self._places.append(address)
        self._matrix.order.spread_down(self.region, unmarked=-1)
        # A person's further accounts are folded into the first.
        self._first = {numbers[0]: person for person, numbers in people.items() if numbers}
        self._others = [(numbers[0], other) for numbers in people.values() for other in numbers[1:]]
        self._mask = self._packed([self._first])[0]
        self._rights = [{person: plan.rights_at(place, person)[0] for person in people} for place in self._places]
        self._meant = {right: self._meant_bits(right) for right in COMPARED}
        self._meant_to_view, self._meant_to_change = self._meant_bits(Right.VIEW), self._meant_bits(Right.CHANGE)

    def _meant_bits(self, right: Right) -> Bits:
        """Return whom the plan gives a right, a row for each folder that it names."""
        return self._packed(
            [n for n, person in self._first.items() if meant[person] & right] for meant in self._rights
        )

    @cached_property
    def has_other_files(self) -> NDArray[np.bool_]:
        """Mark the folders with whose files somebody may do more or less than the plan means."""
        found = np.zeros(len(self.region), dtype=bool)
        rows = np.unique(self._matrix.classes["folder"]).astype(np.int64)
        rows = rows[self.region[rows] >= 0]
        for start in range(0, len(rows), _CHUNK):
            chunk = rows[start : start + _CHUNK]
            found[chunk] = np.bitwise_or.reduce(self._file_state(chunk, self._state(chunk))).any(axis=1)
        return found

    def _files(self, rows: NDArray[np.int64]) -> _FileBits:
        """Return who may read and change the files of some folders, a row for each sort of them."""
        table = self._matrix.classes
        place, classes = class_rows(table, rows)
        sorts = (table[name][classes].astype(np.int64) for name in FILE_SORT)
        # All ways but an administrator's are one here, or there is only one.
        (bits,) = self._matrix.file_blocks(*sorts)
        nobody = np.zeros((len(classes), self._matrix.words), dtype=np.uint64)
        unsure = self._fold(bits.get(Right.UNSURE, nobody))
        read = self._fold(bits[Right.READ] | bits.get(Right.VIEW, nobody))
        return _FileBits(
            place, table["files"][classes].astype(np.int64), read, self._fold(bits[Right.CHANGE]), unsure
        )

    def _file_state(self, rows: NDArray[np.int64], folders: Sequence[Bits]) -> list[Bits]:
        """Return who lacks reading and changing of any file of a folder, and who has it beyond the plan.

        `folders` is what `_state` says of the folders themselves: where that says as much, it is not said again.
        """
        files, region = self._files(rows), np.maximum(self.region[rows], 0)
        spoken = (self.region[rows] >= 0)[:, None]
        unknown = self._fold(self._matrix.block(rows).unknown)
        of_folder = dict(zip(_STATES, folders, strict=True))
        looks_in = (self._meant[Right.READ] | self._meant_to_view)[region]
        found = []
        for right, has, meant in (
            (Right.READ, files.read, looks_in),
            (Right.ADD, files.change, self._meant_to_change[region]),
        ):
            lacks, any_has = np.zeros_like(unknown), np.zeros_like(unknown)
            np.bitwise_or.at(lacks, files.place, ~has & ~files.unsure)
            np.bitwise_or.at(any_has, files.place, has & ~files.unsure)
            lacks &= meant & ~unknown & self._mask & ~of_folder[right, False]
            found.append(np.where(spoken, lacks, np.uint64(0)))
            found.append(np.where(spoken, any_has & ~meant & ~of_folder[right, True], np.uint64(0)))
        return found

    def _packed(self, rows: Iterable[Iterable[int]]) -> Bits:
        """Return a row of bits for each set of numbers."""
        return pack_sets([sum(1 << number for number in numbers) for numbers in rows], self._matrix.words)

    def _fold(self, bits: Bits) -> Bits:
        found = bits.copy()
        for mine, other in self._others:
            found[:, mine >> 6] |= principal_bit(bits, other) << np.uint64(mine & 63)
        folded: Bits = found & self._mask
        return folded

    def _state(self, rows: NDArray[np.int64]) -> list[Bits]:
        """Return by right who lacks it, and who has it beyond the plan; nobody where the plan says nothing."""
        block, region = self._matrix.block(rows), self.region[rows]
        unknown = self._fold(block.unknown)
        spoken = (region >= 0)[:, None]
        found = []
        for right in COMPARED:
            has, meant = self._fold(block.rights[right]), self._meant[right][np.maximum(region, 0)]
            found.append(np.where(spoken, meant & ~has & ~unknown, np.uint64(0)))
            if right in _BEYOND:
                found.append(np.where(spoken, has & ~meant, np.uint64(0)))
        return found

    def differing(self, rows: NDArray[np.int64]) -> Iterator[Divergence]:
        """Yield what differs on some folders, and does not on the folder above the same way."""
        if not len(rows):
            return
        here = self._state(rows)
        parents, place = np.unique(np.maximum(self._parent[rows], 0).astype(np.int64), return_inverse=True)
        above = [bits[place.reshape(-1)] for bits in self._state(parents)]
        alone = self.is_planned[rows] | (self._parent[rows] < 0)
        differs = np.bitwise_or.reduce(here)
        news = np.bitwise_or.reduce([mine ^ theirs for mine, theirs in zip(here, above, strict=True)])
        wanted = np.where(alone[:, None], differs, differs & news)
        files_here, files_above = self._file_state(rows, here), self._file_state(parents, self._state(parents))
        # Of files too only what is not told above; on a folder that the plan names, all.
        told = [np.where(alone[:, None], np.uint64(0), bits[place.reshape(-1)]) for bits in files_above]
        wanted |= np.bitwise_or.reduce([bits & ~known for bits, known in zip(files_here, told, strict=True)])
        some = np.flatnonzero(wanted.any(axis=1))
        if not len(some):
            return
        rows, wanted = rows[some], wanted[some]
        block = self._matrix.block(rows)
        unknown = self._fold(block.unknown)
        rights = {right: self._fold(block.rights[right]) for right in FLAG_RIGHTS if right in block.rights}
        files = self._files(rows)
        for which, number in zip(*positions(wanted), strict=True):
            row, person = int(rows[which]), self._first[number]
            meant = self._rights[int(self.region[row])][person]
            found = rights_of_cell(rights, which, number)
            address = Address(self._system, self._path_of(row))
            is_known = not has_bit(unknown, which, number)
            difference = Difference(person, address, meant, found, is_known, _files_of(files, which, number))
            yield Divergence(row, difference, bool(self.is_planned[row]))


def _files_of(files: _FileBits, which: int, number: int) -> FilesFound:
    """Return what a person may do with the files of one folder, by their number."""
    first, last = np.searchsorted(files.place, [which, which + 1]).tolist()
    numbers = files.files[first:last]
    read, change, unsure = (
        bits[first:last, number >> 6] >> np.uint64(number & 63) & np.uint64(1)
        for bits in (files.read, files.change, files.unsure)
    )
    is_sure = unsure == 0
    reads, changes = (int(numbers[is_sure & (bits == 1)].sum()) for bits in (read, change))
    return FilesFound(int(numbers.sum()), reads, changes, int(numbers[~is_sure].sum()))
