"""What links and hand-outs expose: of a folder all that is in it and below, of a single file its kind."""

from __future__ import annotations

from collections.abc import Iterable, Sequence

import numpy as np
from numpy.typing import NDArray

from neatledger.core.sharing.judging import Exposed
from neatledger.core.tree.address import parts_of
from neatledger.core.tree.columns import kind_of, kinds_of
from neatledger.core.tree.order import TreeOrder
from neatledger.core.tree.table import Table

__all__ = ["Exposer"]


class Exposer:
    """Answers for any number of targets in one tree.

    Arguments: the order of the folders; the tables of classes and large files; the words for
    kinds of files.
    """

    def __init__(self, order: TreeOrder, classes: Table, large: Table, kinds: Sequence[bytes]) -> None:
        self._order = order
        self._kinds = kinds
        place = order.preorder
        self._by_place = np.argsort(place[classes["folder"]], kind="stable")
        self._class_place = place[classes["folder"]][self._by_place]
        self._classes = classes
        self._large_place, self._large = place[large["folder"]], large
        self._rows: dict[tuple[bytes, ...], int | None] = {}
        self._known: dict[tuple[bytes, bool], Exposed | None] = {}

    def find(self, targets: Iterable[tuple[bytes, bool]]) -> dict[bytes, Exposed | None]:
        """Return path → what is exposed there, None where nothing of the name was counted.

        A target is a path and whether it is a file's.
        """
        found = {}
        targets = list(targets)
        self._rows = self._order.find_many(
            parts_of(path)[:-1] if is_file else parts_of(path) for path, is_file in targets
        )
        for path, is_file in targets:
            if (path, is_file) not in self._known:
                self._known[path, is_file] = self._of_file(path) if is_file else self._of_folder(path)
            found[path] = self._known[path, is_file]
        return found

    def _of_file(self, path: bytes) -> Exposed | None:
        *above, name = parts_of(path) or (b"",)
        row = self._rows[tuple(above)]
        if row is None:
            return None
        kind = kind_of(name)
        mine = self._classes["folder"] == row
        known = {self._kinds[number] for number in np.unique(self._classes["kind"][mine]).tolist()}
        if known.isdisjoint(kinds_of(name)):
            return None
        names = self._large.texts("name")
        large = [n for n in np.flatnonzero(self._large["folder"] == row).tolist() if names[n] == name]
        size = int(self._large["bytes"][large[0]]) if large else None
        newest = int(self._large["changed"][large[0]]) if large else 0
        return Exposed(1, size, (kind.decode("utf-8", "surrogateescape"),), newest, size or 0)

    def _of_folder(self, path: bytes) -> Exposed | None:
        row = self._rows[parts_of(path)]
        if row is None:
            return None
        order = self._order
        first = int(order.preorder[row])
        end = first + int(order.size[row])
        low, high = np.searchsorted(self._class_place, [first, end])
        mine = self._by_place[low:high]
        files = self._classes["files"][mine].astype(np.int64)
        kinds = self._classes["kind"][mine]
        counts = np.bincount(kinds, weights=files, minlength=len(self._kinds)) if len(kinds) else np.zeros(0)
        often: NDArray[np.int64] = np.argsort(-counts, kind="stable")[: int(np.count_nonzero(counts))]
        large = self._large["bytes"][(self._large_place >= first) & (self._large_place < end)]
        return Exposed(
            int(files.sum()),
            int(self._classes["bytes"][mine].sum()),
            tuple(self._kinds[number].decode("utf-8", "surrogateescape") for number in often.tolist()),
            int(self._classes["changed"][mine].max(initial=0)),
            int(large.max(initial=0)),
        )
