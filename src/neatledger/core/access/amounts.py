"""How much each person can read, change and delete on a system: files, bytes, and folders that are sensitive."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from neatledger.core.access.everyone import FLAG_RIGHTS, Everyone
from neatledger.core.access.people_flags import FILE_SORT, PeopleFlags
from neatledger.core.lists.rights import Right

__all__ = ["Amounts", "amounts_of"]

_CHUNK = 65_536
RIGHTS = (Right.READ, Right.CHANGE, Right.DELETE)


@dataclass(slots=True)
class Amounts:
    """By person, in the order asked: files and bytes by right, and marked folders that they can read.

    What is not known to be theirs is not counted; `unsure` tells for whom there is such.
    """

    files: dict[Right, NDArray[np.int64]]
    sizes: dict[Right, NDArray[np.int64]]
    marked: NDArray[np.int64]
    unsure: NDArray[np.bool_]


def amounts_of(everyone: Everyone, people: Sequence[str], marks: NDArray[np.bool_]) -> Amounts:
    """Add up what people can do with files by all their ways; `marks` are folders to be counted by themselves."""
    flags = PeopleFlags(everyone, people)
    width, classes = len(people), everyone.matrix.classes
    found = Amounts(
        {right: np.zeros(width, dtype=np.int64) for right in RIGHTS},
        {right: np.zeros(width, dtype=np.int64) for right in RIGHTS},
        np.zeros(width, dtype=np.int64),
        np.zeros(width, dtype=bool),
    )
    for start in range(0, classes.rows, _CHUNK):
        rows = slice(start, min(start + _CHUNK, classes.rows))
        sorts = (classes[name][rows].astype(np.int64) for name in FILE_SORT)
        rights = everyone.file_rights(*sorts)
        files, sizes = (classes[name][rows].astype(np.int64) for name in ("files", "bytes"))
        doubt = flags.pick(rights[Right.UNSURE]) if Right.UNSURE in rights else None
        if doubt is not None:
            found.unsure |= doubt.any(axis=0)
        for right in RIGHTS:
            has = flags.pick(rights[right])
            if doubt is not None:
                has &= ~doubt
            # Floats would round what is more than 2^53 bytes.
            found.files[right] += np.einsum("i,ij->j", files, has.astype(np.int64))
            found.sizes[right] += np.einsum("i,ij->j", sizes, has.astype(np.int64))
    wanted = np.flatnonzero(marks)
    read = 1 << FLAG_RIGHTS.index(Right.READ)
    for start in range(0, len(wanted), _CHUNK):
        found.marked += (flags.flags(wanted[start : start + _CHUNK]) & read > 0).sum(axis=0)
    return found
