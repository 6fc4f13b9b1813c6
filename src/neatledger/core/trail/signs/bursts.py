"""Where moments lie close together."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np
from numpy.typing import NDArray

__all__ = ["bursts", "busiest", "runs"]

Ints = NDArray[np.int64]


def bursts(moments: Ints, window: int, least: int) -> Iterator[tuple[int, int]]:
    """Yield the first and last place of each stretch in which some `window` seconds hold `least` or more."""
    if len(moments) < least:
        return
    starts = np.arange(len(moments) - least + 1)
    dense = starts[moments[starts + least - 1] - moments[starts] <= window]
    first = last = -1
    for start in dense.tolist():
        if first >= 0 and start <= last:
            last = start + least - 1
            continue
        if first >= 0:
            yield first, last
        first, last = start, start + least - 1
    if first >= 0:
        yield first, last


def busiest(moments: Ints, window: int) -> int:
    """Return how many the busiest `window` seconds hold."""
    if not len(moments):
        return 0
    ends = np.searchsorted(moments, moments + window, side="right")
    return int((ends - np.arange(len(moments))).max())


def runs(moments: Ints, pause: int) -> list[int]:
    """Return where something begins after a pause."""
    if not len(moments):
        return []
    return [0, *(np.flatnonzero(np.diff(moments) > pause) + 1).tolist()]
