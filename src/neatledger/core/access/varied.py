"""Everyone's rights on every folder, where what decides about some folders is not the same for all who are asked.

Who is asked about may be one person in many states on the way of a change: each of these stands as a principal of its
own, and for each a folder has the list and the owner that it has in that state. So all states are worked out at once,
by the rules of `matrix.py` and none of their own.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from neatledger.core.access.bits import Bits, ItemRows, RowIndex, pack_sets
from neatledger.core.access.matrix import Matrix
from neatledger.core.access.shares import SystemTerms
from neatledger.core.lists.rights import Right
from neatledger.core.people.principals import Principal
from neatledger.core.tree.table import Table

__all__ = ["Stage", "VariedMatrix"]


@dataclass(frozen=True, slots=True)
class Stage:
    """What decides about a folder instead, for some: numbers of list and owner, and the bits of those principals."""

    row: int
    list: int
    owner: int
    principals: int


class _Layer:
    """Stages of which no two are of one folder."""

    def __init__(self, stages: Sequence[Stage], rows: int, words: int) -> None:
        self.place = np.full(rows, -1, dtype=np.int64)
        self.place[[one.row for one in stages]] = np.arange(len(stages))
        self.lists = np.array([one.list for one in stages], dtype=np.int64)
        self.owners = np.array([one.owner for one in stages], dtype=np.int64)
        self.bits = pack_sets([one.principals for one in stages], words)


@dataclass(slots=True)
class _VariedRows(ItemRows):
    rows: RowIndex


class VariedMatrix(Matrix):
    """The rights of principals in a tree whose folders have further `stages`, the later ones over the earlier."""

    def __init__(
        self,
        folders: Table,
        classes: Table,
        lists: Sequence[bytes],
        idents: Sequence[str],
        principals: Sequence[Principal],
        *,
        terms: SystemTerms,
        stages: Sequence[Stage],
    ) -> None:
        self._stages = stages
        self._varied: list[_Layer] = []
        super().__init__(folders, classes, lists, idents, principals, terms=terms)
        layers: list[dict[int, Stage]] = []
        for stage in stages:
            free = next((one for one in layers if stage.row not in one), None)
            if free is None:
                layers.append(free := {})
            free[stage.row] = stage
        self._varied = [_Layer(list(one.values()), folders.rows, self.words) for one in layers]

    def _lists_of_folders(self) -> NDArray[np.int32]:
        further = np.array([stage.list for stage in self._stages], dtype=np.int32)
        return np.concatenate([super()._lists_of_folders(), further])

    def _items_at(self, rows: RowIndex) -> ItemRows:
        items = super()._items_at(rows)
        owned = items.owned
        for layer, some, place in self._stages_of(rows):
            bits = layer.bits[place]
            owned[some] = owned[some] & ~bits | self._owned[layer.owners[place]] & bits
        return _VariedRows(items.lists, owned, rows)

    def _own(self, right: Right, items: ItemRows) -> Bits:
        found = super()._own(right, items)
        if isinstance(items, _VariedRows):
            for layer, some, place in self._stages_of(items.rows):
                other = super()._own(right, ItemRows(layer.lists[place], items.owned[some]))
                bits = layer.bits[place]
                found[some] = found[some] & ~bits | other & bits
        return found

    def _stages_of(self, rows: RowIndex) -> list[tuple[_Layer, NDArray[Any], NDArray[Any]]]:
        found = []
        for layer in self._varied:
            place = layer.place[rows]
            some = np.flatnonzero(place >= 0)
            if len(some):
                found.append((layer, some, place[some]))
        return found
