"""People as bits: every right of many folders as words of 64 people each, by list, by owner and by share."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from neatledger.core.lists.rights import Right

__all__ = [
    "Bits",
    "Block",
    "FoldedBits",
    "ItemRows",
    "Layer",
    "RowIndex",
    "Spread",
    "carry_doubt",
    "carry_down",
    "has_bit",
    "pack_sets",
    "positions",
    "principal_bit",
    "rights_of_cell",
]

Bits = NDArray[np.uint64]
RowIndex = NDArray[np.signedinteger[Any]]


def pack_sets(sets: Sequence[int], words: int) -> Bits:
    """Pack bit sets (Python integers) into rows of 64-bit words."""
    raw = b"".join([each.to_bytes(words * 8, "little") for each in sets])
    return np.frombuffer(raw, dtype=np.uint64).reshape(len(sets), words)


def principal_bit(bits: Bits, principal: int) -> Bits:
    """Return one principal's bit, 0 or 1, of every row."""
    one: Bits = bits[:, principal >> 6] >> np.uint64(principal & 63) & np.uint64(1)
    return one


def positions(bits: Bits) -> tuple[list[int], list[int]]:
    """Return the rows and places of all bits that are set."""
    some = np.flatnonzero(bits.any(axis=1))
    spread = np.unpackbits(bits[some].view(np.uint8), axis=1, bitorder="little")
    rows, places = np.nonzero(spread)
    return some[rows].tolist(), places.tolist()


def has_bit(bits: Bits, row: int, place: int) -> bool:
    """Tell whether one bit is set."""
    return bool(int(bits[row, place >> 6]) >> (place & 63) & 1)


def rights_of_cell(rights: Mapping[Right, Bits], row: int, place: int) -> Right:
    """Return the rights that have the bit of one row and place."""
    found = Right.NONE
    for right, bits in rights.items():
        found |= right if has_bit(bits, row, place) else Right.NONE
    return found


class FoldedBits:
    """Bits of many rows of which many are alike: each set is kept once, and of each row the number of its set.

    A tree of millions of folders has few sets of people that get inside one: memory follows these.
    """

    def __init__(self, rows: int, words: int) -> None:
        self._codes = np.zeros(rows, dtype=np.int32)
        self._sets = np.zeros((256, words), dtype=np.uint64)
        self._numbers: dict[bytes, int] = {}
        self._odd = np.random.default_rng(1).integers(1, 2**63, words, dtype=np.uint64) | np.uint64(1)

    def put(self, start: int, bits: Bits) -> None:
        """Keep the bits of a run of rows."""
        mixed = (bits * self._odd).sum(axis=1, dtype=np.uint64)
        _, first, place = np.unique(mixed, return_index=True, return_inverse=True)
        if not np.array_equal(bits[first][place], bits):
            # Two sets were mixed into one number: told apart by all that they are.
            whole = np.ascontiguousarray(bits).view(f"V{bits.shape[1] * 8}").ravel()
            _, first, place = np.unique(whole, return_index=True, return_inverse=True)
        numbers = np.array([self._number(bits[row]) for row in first.tolist()], dtype=np.int32)
        self._codes[start : start + len(bits)] = numbers[place]

    def _number(self, one: Bits) -> int:
        key = one.tobytes()
        number = self._numbers.get(key)
        if number is None:
            number = self._numbers[key] = len(self._numbers)
            if number >= len(self._sets):
                self._sets = np.concatenate([self._sets, np.zeros_like(self._sets)])
            self._sets[number] = one
        return number

    def __getitem__(self, rows: RowIndex) -> Bits:
        """Return the bits of some rows."""
        found: Bits = self._sets[self._codes[rows]]
        return found


@dataclass(slots=True)
class Spread:
    """One right of every distinct list: for people who do not own the item (None: nobody), and for its owner."""

    other: Bits | None
    owner: Bits | None

    def at(self, lists: RowIndex, owned: Bits) -> Bits:
        """Return the right for items by their list and the bits of their owner."""
        if self.other is None:
            assert self.owner is not None
            return self.owner[lists] & owned
        if self.owner is self.other or self.owner is None:
            return self.other[lists]
        # Both forms are picked by list at once; the owner's bits then choose between them, person by person.
        # (other & ~owned) | (owner & owned), in fewer steps
        other: Bits = self.other[lists]
        mine: Bits = self.owner[lists]
        mine ^= other
        mine &= owned
        mine ^= other
        return mine


@dataclass(slots=True)
class ItemRows:
    """Some items as lists see them: the numbers of their lists, and the bits of their owners."""

    lists: RowIndex
    owned: Bits


@dataclass(slots=True)
class Block:
    """Rights of all people on some folders: right → bits, and the bits of what could not be judged."""

    rights: dict[Right, Bits]
    unknown: Bits


@dataclass(slots=True)
class Layer:
    """The shares of one depth of nesting, or a system without shares as one that all folders lie in.

    `share` numbers each folder's share from 1, 0 where it lies in none; None where all lie in one.
    `gates` has for every right, by number of share, who passes the gates before the lists; `admin` what
    administrators have there by their role. `roots` marks the folders that shares begin with.
    """

    share: RowIndex | None
    gates: dict[Right, Bits]
    unsure: Bits
    admin: dict[Right, Bits]
    roots: NDArray[np.bool_]

    def gate(self, right: Right, rows: RowIndex) -> Bits:
        return self._at(self.gates[right], rows)

    def admin_at(self, right: Right, rows: RowIndex) -> Bits:
        return self._at(self.admin[right], rows)

    def unsure_at(self, rows: RowIndex) -> Bits:
        return self._at(self.unsure, rows)

    def _at(self, bits: Bits, rows: RowIndex) -> Bits:
        return bits if self.share is None else bits[self.share[rows]]


Levels = Sequence[tuple[int, int]]


def carry_down(own: NDArray[Any], layer: Layer, parent: RowIndex, levels: Levels, is_whole_way: bool) -> NDArray[Any]:
    """Carry a mark of folders down to those for which it matters: all below, or those right below.

    Where entering is asked for the whole way counts, else only the folder right above, for removal. What
    lies above the beginning of a share does not matter in it.
    """
    found = own.copy()
    for first, last in levels[1:]:
        above = (found if is_whole_way else own)[parent[first:last]]
        above[layer.roots[first:last]] = 0
        found[first:last] |= above
    return found


def carry_doubt(own: Bits, stops: Bits, layer: Layer, parent: RowIndex, levels: Levels) -> Bits:
    """Carry what is not known down to all below, but for those whom a folder on the way stops for certain."""
    found, stopped = own.copy(), np.zeros_like(own)
    for first, last in levels[1:]:
        above = parent[first:last]
        doubt, before = found[above], stopped[above] | stops[above]
        doubt[layer.roots[first:last]] = 0
        before[layer.roots[first:last]] = 0
        stopped[first:last] = before
        found[first:last] |= doubt
        found[first:last] &= ~before
    return found
