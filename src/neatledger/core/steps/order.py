"""An order of steps that harms nobody.

Of every state on the way: nobody has a right that they have neither before the first step nor after the last, and
nobody lacks one that they have before and after. Steps that nobody's rights on any folder hang on together are
independent, and any order of them is as good. Of those that do hang together, steps that only take away, or only
give, may go in any order too: whatever is on the way lies between the two ends. The rest is tried out: of the steps
that are left the first is taken that harms nobody; where each would, the one that harms least, and it is said whom.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from enum import Flag
from typing import Protocol

import numpy as np
from numpy.typing import NDArray

__all__ = ["Direction", "Harm", "Placed", "Prober", "Scope", "arrange", "is_harmless"]

Cells = NDArray[np.int64]


class Direction(Flag):
    """What a step does to people's rights, whatever else is done before it."""

    NOTHING = 0
    LOWERS = 1
    RAISES = 2
    BOTH = 3


@dataclass(frozen=True, slots=True)
class Scope:
    """What rights may hang on a step: whose, on which system, from which folders downwards.

    `is_fixed` steps keep their order among those of the same folders: one makes what the other speaks of. Systems of
    one `cluster` decide about each other's rights, as a share does about those of a team folder over it.
    """

    system: str
    people: frozenset[str]
    tops: tuple[bytes, ...]
    direction: Direction
    is_fixed: bool = False
    cluster: str = ""

    def meets(self, other: Scope) -> bool:
        """Tell whether somebody's rights on some folder may hang on both."""
        if self.system != other.system:
            return bool(self.cluster) and self.cluster == other.cluster and bool(self.people & other.people)
        if not self.people & other.people and not (self.is_fixed or other.is_fixed):
            return False
        return any(_is_within(one, top) or _is_within(top, one) for one in self.tops for top in other.tops)


def _is_within(path: bytes, top: bytes) -> bool:
    return path == top or top == b"/" or path.startswith(top + b"/")


@dataclass(frozen=True, slots=True)
class Harm:
    """What a step does that no order avoids: cells by place, with the flags that are there too many or too few."""

    extra: tuple[tuple[int, int], ...]
    missing: tuple[tuple[int, int], ...]


@dataclass(frozen=True, slots=True)
class Placed:
    """A step by its number, and the harm that it does on the way (None: none).

    `members` are those it hangs with; where they were tried out, leaving some of them out may harm somebody.
    """

    number: int
    harm: Harm | None = None
    members: tuple[int, ...] = ()
    is_tried: bool = False


class Prober(Protocol):
    """Tells the rights of those concerned, as flags a cell, after some steps of a group were made."""

    def cells(self, made: Sequence[int]) -> Cells | None:
        """Return the cells after these steps in this order; None where one does not fit then."""


def arrange(scopes: Sequence[Scope], prober_of: Callable[[Sequence[int]], Prober]) -> list[Placed]:
    """Return the steps in an order that harms nobody, or as few as can be; a group by the first of its steps."""
    found: list[Placed] = []
    for group in _groups(scopes):
        direction = Direction.NOTHING
        for number in group:
            direction |= scopes[number].direction
        if len(group) == 1 or direction is not Direction.BOTH:
            found += [Placed(number, None, tuple(group)) for number in group]
        else:
            found += _try_out(group, prober_of(group))
    return found


def _groups(scopes: Sequence[Scope]) -> list[list[int]]:
    """Return the steps that hang together, by the first of each group."""
    root = list(range(len(scopes)))

    def find(number: int) -> int:
        while root[number] != number:
            root[number] = number = root[root[number]]
        return number

    for here, there in _meeting(scopes):
        one, other = sorted((find(here), find(there)))
        root[other] = one
    groups: dict[int, list[int]] = {}
    for number in range(len(scopes)):
        groups.setdefault(find(number), []).append(number)
    return list(groups.values())


def _meeting(scopes: Sequence[Scope]) -> list[tuple[int, int]]:
    """Return pairs of steps that meet; steps on folders are looked up by the folders above theirs."""
    at: dict[tuple[str, bytes], list[int]] = {}
    for number, scope in enumerate(scopes):
        for top in scope.tops:
            at.setdefault((scope.system, top), []).append(number)
    found = []
    for number, scope in enumerate(scopes):
        for top in scope.tops:
            for above in _above(top):
                found += [(number, other) for other in at.get((scope.system, above), ()) if other != number]
    clusters: dict[str, list[int]] = {}
    for number, scope in enumerate(scopes):
        clusters.setdefault(scope.cluster, []).append(number)
    for name, numbers in clusters.items():
        if name and len({scopes[number].system for number in numbers}) > 1:
            found += [(one, other) for one in numbers for other in numbers if one < other]
    return [(one, other) for one, other in found if scopes[one].meets(scopes[other])]


def _above(path: bytes) -> list[bytes]:
    """Return a folder and those above it."""
    found = [path]
    while path != b"/":
        path = path.rpartition(b"/")[0] or b"/"
        found.append(path)
    return found


def _try_out(group: Sequence[int], prober: Prober) -> list[Placed]:
    start, end = prober.cells(()), prober.cells(group)
    if start is None or end is None or start.shape != end.shape:
        # They do not fit alone: they stay as they were found, each after what it needs.
        return [Placed(number, None, tuple(group)) for number in group]
    either, both = start | end, start & end
    left, made, found = list(group), list[int](), list[Placed]()
    while left:
        best: tuple[int, int, Harm | None] | None = None
        for number in left:
            cells = prober.cells((*made, number))
            if cells is None or cells.shape != start.shape:
                continue
            extra, missing = cells & ~either, both & ~cells
            weight = _bits(extra) + _bits(missing)
            if best is None or weight < best[0]:
                best = weight, number, Harm(_places(extra), _places(missing)) if weight else None
            if not weight:
                break
        if best is None:
            best = 0, left[0], None
        made.append(best[1])
        left.remove(best[1])
        found.append(Placed(best[1], best[2], tuple(group), True))
    return found


def is_harmless(prober: Prober, group: Sequence[int], made: Sequence[int]) -> bool:
    """Tell whether nobody has too much or too little where only some steps of a group are made, and no others yet."""
    start, end, cells = prober.cells(()), prober.cells(group), prober.cells(made)
    if start is None or end is None or cells is None or not start.shape == end.shape == cells.shape:
        return False
    return not ((cells & ~(start | end)).any() or (start & end & ~cells).any())


def _bits(cells: Cells) -> int:
    return int(np.unpackbits(cells.view(np.uint8)).sum())


def _places(cells: Cells) -> tuple[tuple[int, int], ...]:
    places = np.flatnonzero(cells)
    return tuple(zip(places.tolist(), cells.reshape(-1)[places].tolist(), strict=True))
