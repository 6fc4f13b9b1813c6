"""Many records of one system as columns, for what looks at all of them at once."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from neatledger.core.trail.records import Did

__all__ = ["DIDS", "TrailTable"]

DIDS: tuple[Did, ...] = tuple(Did)
"""What was done, by its number in `TrailTable.did`."""


@dataclass(frozen=True, slots=True)
class TrailTable:
    """Records of one system in the order of time, each a row of all columns.

    `moments` are seconds since 1970 (UTC) and `numbers` how many records a row stands for; `who`, `folders`,
    `addresses` and `kind` are places in `logins`, `paths`, `places` and `kinds`, −1 for none. `kinds` are the endings
    of files in small letters, of where something was moved to if it was.
    """

    system: str
    moments: NDArray[np.int64]
    numbers: NDArray[np.int64]
    who: NDArray[np.int32]
    did: NDArray[np.uint8]
    is_done: NDArray[np.bool_]
    folders: NDArray[np.int32]
    addresses: NDArray[np.int32]
    kind: NDArray[np.int32]
    logins: Sequence[str]
    paths: Sequence[bytes]
    places: Sequence[str]
    kinds: Sequence[bytes]

    def __len__(self) -> int:
        return len(self.moments)
