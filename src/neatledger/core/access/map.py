"""The map of access: the folders at which what people have changes, and the level of each on them."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass

import numpy as np

from neatledger.core.access.everyone import Everyone
from neatledger.core.access.people_flags import PeopleFlags, level_of_flags
from neatledger.core.lists.rights import Level

__all__ = ["AccessMap", "map_of"]

_LOOKED_AT = 20_000


@dataclass(frozen=True, slots=True)
class AccessMap:
    """Rows of folders in reading order, with the level of each person on each; `left_out` are folders like them."""

    rows: Sequence[int]
    levels: Sequence[Sequence[Level]]
    left_out: int


def map_of(everyone: Everyone, people: Sequence[str], wanted: Iterable[int], most: int, depth: int) -> AccessMap:
    """Return the map of some people: of wanted folders, and where a level is not that of the folder above.

    Folders down to a depth are looked at, the upper ones first; of those that differ `most` are shown.
    """
    folders = everyone.matrix.folders
    order = everyone.matrix.order
    upper = np.concatenate([np.arange(first, last) for first, last in order.levels[: depth + 1]])[:_LOOKED_AT]
    kept = np.unique(np.fromiter((row for row in wanted), dtype=np.int64))
    rows = np.union1d(upper, kept)
    parent = np.maximum(folders["parent"].astype(np.int64), 0)
    flags = PeopleFlags(everyone, people)
    own, above = flags.flags(rows), flags.flags(parent[rows])
    named = {int(flag): level_of_flags(int(flag)) for flag in np.unique(np.concatenate([own.ravel(), above.ravel()]))}
    numbers = {flag: list(Level).index(level) for flag, level in named.items()}
    of = np.vectorize(numbers.get, otypes=[np.int64])
    differs = (of(own) != of(above)).any(axis=1) | (rows == 0)
    chosen = np.flatnonzero(np.isin(rows, kept))
    others = np.flatnonzero(differs & ~np.isin(rows, kept))
    room = max(most - len(chosen), 0)
    shown = np.concatenate([chosen, others[:room]])
    # In reading order, as people look for a folder.
    place = order.preorder[rows[shown]]
    shown = shown[np.argsort(place)]
    levels = [[named[int(flag)] for flag in own[at]] for at in shown.tolist()]
    return AccessMap([int(rows[at]) for at in shown.tolist()], levels, max(len(others) - room, 0))
