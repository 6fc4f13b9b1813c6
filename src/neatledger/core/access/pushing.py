"""What pushing a folder's list down would change: item by item, and person by person.

A push gives every item below what a new child would get there, level by level; with `keeps_own` entries that
stand on an item itself stay, and folders closed to what comes from above are left alone, with all below them.
"""

from __future__ import annotations

from collections import deque
from collections.abc import Iterator, Sequence
from dataclasses import dataclass

import numpy as np

from neatledger.core.access.matrix import Matrix
from neatledger.core.lists.contract import ListEntry
from neatledger.core.lists.rights import Right

__all__ = ["Pushed", "push_down"]

_TOLD = (Right.ENTER, Right.LIST, Right.READ, Right.ADD, Right.CHANGE, Right.DELETE, Right.MANAGE)


@dataclass(frozen=True, slots=True)
class Pushed:
    """One folder (`files` 0), or files in it that share a list, whose list would change.

    `lost` are entries of its own that would go; `gains` and `loses` say by person what
    their list would give and take; entries that cannot be evaluated are counted for nobody.
    """

    row: int
    files: int
    lost: tuple[ListEntry, ...]
    gains: dict[str, Right]
    loses: dict[str, Right]


_Effect = tuple[tuple[ListEntry, ...], dict[str, Right], dict[str, Right]]


class _Effects:
    """What a change of one list into another does for everyone; remembered, as most folders share few lists."""

    def __init__(self, matrix: Matrix) -> None:
        self.matrix, self.model, self.principals = matrix, matrix.model, matrix.principals
        self._known: dict[tuple[bytes, bytes, str, bool], _Effect] = {}

    def of(self, before: bytes, after: bytes, owner: str, is_folder: bool) -> _Effect:
        key = before, after, owner, is_folder
        if key not in self._known:
            self._known[key] = self._work_out(*key)
        return self._known[key]

    def _work_out(self, before: bytes, after: bytes, owner: str, is_folder: bool) -> _Effect:
        old, new = self._rights(before, owner, is_folder), self._rights(after, owner, is_folder)
        gains: dict[str, Right] = {}
        loses: dict[str, Right] = {}
        for number, principal in enumerate(self.principals):
            for right in _TOLD:
                had, has = old.get(right, 0) >> number & 1, new.get(right, 0) >> number & 1
                if had != has:
                    message = gains if has else loses
                    message[principal.person] = message.get(principal.person, Right.NONE) | right
        views = [self.model.parse(body).view(is_folder=is_folder) for body in (before, after)]
        # An entry that comes from above afterwards is not lost, though it is no longer its own.
        left = list(views[1].own)
        lost = tuple(entry for entry in views[0].own if entry not in left)
        return lost, gains, loses

    def _rights(self, body: bytes, owner: str, is_folder: bool) -> dict[Right, int]:
        owners = self.matrix.owners(owner)
        other, mine = self.model.parse(body).decide_all(self.matrix.crowd, is_folder=is_folder)
        return {
            right: mine.get(right, 0) & owners | other.get(right, 0) & ~owners for right in mine.keys() | other.keys()
        }


def push_down(
    matrix: Matrix, bodies: Sequence[bytes], default: bytes | None, top: int, *, keeps_own: bool
) -> Iterator[Pushed]:
    """Yield what would change below the folder `top`, each folder before its files, level by level.

    `default` is the list that the folder passes on where that is one of its own (a default list); else the
    folder's list itself is passed on, and what each folder below then has is passed on further.
    """
    model, folders = matrix.model, matrix.folders
    effects = _Effects(matrix)
    # With a default list every folder passes on the same one; else each passes on what it then has.
    passes: dict[int, bytes] = {top: default if default is not None else bodies[int(folders["list"][top])]}
    yield from _files(matrix, bodies, effects, top, passes[top], keeps_own)
    first, children = folders["first_child"], folders["children"]
    waiting = deque([top])
    while waiting:
        row = waiting.popleft()
        # Each is read once, by its own children: what was handed down need not be kept.
        above = passes.pop(row)
        for child in range(int(first[row]), int(first[row]) + int(children[row])):
            before, owner = bodies[int(folders["list"][child])], matrix.idents[int(folders["owner"][child])]
            after = model.pushed(above, before, owner, keeps_own=keeps_own, is_folder=True)
            if after != before:
                yield Pushed(child, 0, *effects.of(before, after, owner, True))
            passes[child] = above if default is not None else after
            yield from _files(matrix, bodies, effects, child, passes[child], keeps_own)
            waiting.append(child)


def _files(
    matrix: Matrix, bodies: Sequence[bytes], effects: _Effects, row: int, above: bytes, keeps_own: bool
) -> Iterator[Pushed]:
    classes = matrix.classes
    low, high = np.searchsorted(classes["folder"], [row, row + 1]).tolist()
    # Files that differ in kind alone change alike: one row for them.
    sorts: dict[tuple[int, int], int] = {}
    for number in range(low, high):
        key = int(classes["list"][number]), int(classes["owner"][number])
        sorts[key] = sorts.get(key, 0) + int(classes["files"][number])
    for (listed, owner_number), files in sorts.items():
        before, owner = bodies[listed], matrix.idents[owner_number]
        after = matrix.model.pushed(above, before, owner, keeps_own=keeps_own, is_folder=False)
        if after != before:
            yield Pushed(row, files, *effects.of(before, after, owner, False))
