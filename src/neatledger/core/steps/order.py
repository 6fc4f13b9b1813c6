"""An order of steps that harms nobody.

Of every state on the way: nobody has a right that they have neither before the first step nor after the last, and
nobody lacks one that they have before and after. A *hinge* is some steps on which cells of the table of access hang,
with the sets of them that harm somebody. An order is a way through all hinges at once, step by step: each hinge only
knows which of its own steps are made, and a step may be made when no hinge is harmed by it. Making one moves only the
hinges that it is of, so that the work grows with these and not with the square of the steps.

Where the harmless sets of a hinge are closed under union and intersection they are the lower sets of a partial order
of its steps (Birkhoff, Rings of sets, 1937), and whichever harmless step is made first leads through. Where they are
not, or where hinges turn in a circle, no step may be left that harms nobody: of few steps that hang together all
orders are looked at then; of many, one of those that only wait for each other is made, which harms least for what it
eases; it is said whom.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from enum import Flag
from functools import cached_property
from heapq import heappop, heappush
from itertools import chain, combinations
from typing import Protocol

import numpy as np
from numpy.typing import NDArray

__all__ = [
    "Direction",
    "Harm",
    "Hinge",
    "HingedOrder",
    "Placed",
    "Prober",
    "Scope",
    "is_harmless",
    "meeting_groups",
    "try_out",
]

Cells = NDArray[np.int64]
_FEW = 10
"""Of so many steps that hang together all orders are looked at."""


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

    @property
    def weight(self) -> int:
        """How many rights of how many cells are other ones than they may be."""
        return sum(flags.bit_count() for _, flags in (*self.extra, *self.missing))


@dataclass(frozen=True, slots=True)
class Placed:
    """A step by its number, and the harm that it does on the way (None: none)."""

    number: int
    harm: Harm | None = None


# Which steps may hang together ----------------------------------------------------------------------------


class _Joined:
    """Numbers that were joined pair by pair, in groups."""

    def __init__(self, numbers: Iterable[int]) -> None:
        self._root = {number: number for number in numbers}

    def __contains__(self, number: int) -> bool:
        return number in self._root

    def _find(self, number: int) -> int:
        root = self._root
        while root[number] != number:
            root[number] = number = root[root[number]]
        return number

    def are_apart(self, number: int, other: int) -> bool:
        return self._find(number) != self._find(other)

    def join(self, number: int, other: int) -> None:
        first, second = sorted((self._find(number), self._find(other)))
        self._root[second] = first

    def groups(self) -> list[list[int]]:
        """Return the groups, each by its first number."""
        found: dict[int, list[int]] = {}
        for number in self._root:
            found.setdefault(self._find(number), []).append(number)
        return list(found.values())


def meeting_groups(scopes: Sequence[Scope], needs: Mapping[int, Iterable[int]]) -> list[list[int]]:
    """Return the steps that may hang together, each group by its first: their scopes meet, or one needs another."""
    joined = _Joined(range(len(scopes)))
    for number, others in needs.items():
        for other in others:
            joined.join(number, other)
    for number, other in chain(_above_each_other(scopes), _in_one_cluster(scopes)):
        if joined.are_apart(number, other) and scopes[number].meets(scopes[other]):
            joined.join(number, other)
    return joined.groups()


def _above_each_other(scopes: Sequence[Scope]) -> Iterator[tuple[int, int]]:
    at: dict[tuple[str, bytes], list[int]] = {}
    for number, scope in enumerate(scopes):
        for top in scope.tops:
            at.setdefault((scope.system, top), []).append(number)
    for number, scope in enumerate(scopes):
        for top in scope.tops:
            for above in _above(top):
                yield from ((number, other) for other in at.get((scope.system, above), ()))


def _in_one_cluster(scopes: Sequence[Scope]) -> Iterator[tuple[int, int]]:
    clusters: dict[str, list[int]] = {}
    for number, scope in enumerate(scopes):
        if scope.cluster:
            clusters.setdefault(scope.cluster, []).append(number)
    for numbers in clusters.values():
        for number, other in combinations(numbers, 2):
            if scopes[number].system != scopes[other].system:
                yield number, other


def _above(path: bytes) -> list[bytes]:
    """Return a folder and those above it."""
    found = [path]
    while path != b"/":
        path = path.rpartition(b"/")[0] or b"/"
        found.append(path)
    return found


# Through hinges -------------------------------------------------------------------------------------------


@dataclass(frozen=True)
class Hinge:
    """Some steps on which cells hang, and what each set of them does to these.

    A set is a number whose bit j is the hinge's step number j. `harms` has, of the sets that harm, what is there too
    many or too few: flags of a cell. `places` are the cells that all hang on it alike. Of a hinge that `is_chain`
    only the sets were looked at in which its steps stand in their order, each after all before it.
    """

    steps: tuple[int, ...]
    harms: Mapping[int, tuple[int, int]]
    places: Sequence[int] = (0,)
    is_chain: bool = False

    @cached_property
    def _weights(self) -> dict[int, int]:
        return {
            made: (more.bit_count() + less.bit_count()) * len(self.places)
            for made, (more, less) in self.harms.items()
        }

    def weight(self, made: int) -> int:
        """Return how many rights are other ones than they may be after a set of the steps."""
        if self.is_chain and made & (made + 1):
            # What was not looked at is worse than anything.
            return 1 << 30
        return self._weights.get(made, 0)

    def set_of(self, made: Iterable[int]) -> int:
        """Return which of its steps are among some."""
        these = set(made)
        return sum(1 << place for place, number in enumerate(self.steps) if number in these)


@dataclass
class HingedOrder:
    """Steps in an order that harms nobody, or as few as can be.

    `numbers` are the steps; `needs` tells after which others a step must come, harm or no harm.
    """

    numbers: Sequence[int]
    hinges: Sequence[Hinge]
    needs: Mapping[int, Iterable[int]] = field(default_factory=dict)

    @cached_property
    def groups(self) -> list[list[int]]:
        """The steps that hang together by hinges or needs, by the first of each group."""
        joined = _Joined(self.numbers)
        for hinge in self.hinges:
            for number in hinge.steps[1:]:
                joined.join(hinge.steps[0], number)
        for number in self.numbers:
            for other in self.needs.get(number, ()):
                if other in joined:
                    joined.join(number, other)
        return joined.groups()

    @cached_property
    def _of_step(self) -> dict[int, list[int]]:
        found: dict[int, list[int]] = {}
        for place, hinge in enumerate(self.hinges):
            for number in hinge.steps:
                found.setdefault(number, []).append(place)
        return found

    def arrange(self) -> list[Placed]:
        """Return the steps in their order, those that hang together side by side."""
        walked = list(_Walk(self.numbers, self.hinges, self.needs).steps())
        harmed = {number for number, weight in walked if weight}
        place = {number: place for place, (number, _) in enumerate(walked)}
        found: list[int] = []
        for group in self.groups:
            # Side by side: whom a step of one group harms for a while does not wait for those of another.
            is_tried = len(group) <= _FEW and harmed.intersection(group)
            found += self._best(group) if is_tried else sorted(group, key=place.__getitem__)
        return self._with_harm(found)

    def _hinges_of(self, group: Sequence[int]) -> list[Hinge]:
        return [
            self.hinges[place] for place in sorted({p for number in group for p in self._of_step.get(number, ())})
        ]

    def _best(self, group: Sequence[int]) -> list[int]:
        """Return the order of a few steps that does the least harm on the whole way, all orders being looked at."""
        place = {number: bit for bit, number in enumerate(group)}
        hinges = [(one, [place[number] for number in one.steps]) for one in self._hinges_of(group)]
        needs = [sum(1 << place[other] for other in self.needs.get(number, ()) if other in place) for number in group]
        least: dict[int, tuple[int, int]] = {0: (0, -1)}  # set → harm on the best way to it, and its last step
        for made in range(1, 1 << len(group)):
            ways = [
                (least[made & ~(1 << bit)][0], bit)
                for bit in range(len(group))
                if made >> bit & 1 and made & ~(1 << bit) in least and not needs[bit] & ~made
            ]
            if ways:
                here = sum(one.weight(sum((made >> p & 1) << j for j, p in enumerate(bits))) for one, bits in hinges)
                before, last = min(ways)
                least[made] = before + here, last
        made, found = (1 << len(group)) - 1, list[int]()
        while made:
            last = least[made][1]
            found.append(group[last])
            made &= ~(1 << last)
        return found[::-1]

    def _with_harm(self, order: Sequence[int]) -> list[Placed]:
        now = [0] * len(self.hinges)
        found = []
        for number in order:
            extra, missing = list[tuple[int, int]](), list[tuple[int, int]]()
            for place in self._of_step.get(number, ()):
                hinge = self.hinges[place]
                now[place] |= 1 << hinge.steps.index(number)
                more, less = hinge.harms.get(now[place], (0, 0))
                extra += [(cell, more) for cell in hinge.places if more]
                missing += [(cell, less) for cell in hinge.places if less]
            harm = Harm(tuple(sorted(extra)), tuple(sorted(missing))) if extra or missing else None
            found.append(Placed(number, harm))
        return found

    def is_harmless(self, number: int, made: Iterable[int]) -> bool:
        """Tell whether a step harms nobody where of all others only some were made."""
        these = {*made, number}
        if not set(self.needs.get(number, ())) <= these:
            return False
        return not any(
            self.hinges[place].weight(self.hinges[place].set_of(these)) for place in self._of_step.get(number, ())
        )


class _Walk:
    """A way through hinges, step by step: each the first of those that harm nobody, or the one that harms least."""

    def __init__(self, numbers: Sequence[int], hinges: Sequence[Hinge], needs: Mapping[int, Iterable[int]]) -> None:
        self._hinges, self._now = hinges, [0] * len(hinges)
        self._left = dict.fromkeys(numbers)
        self._of_step: dict[int, list[tuple[int, int]]] = {number: [] for number in numbers}
        for place, hinge in enumerate(hinges):
            for bit, number in enumerate(hinge.steps):
                self._of_step[number].append((place, bit))
        self._wanted = {number: {one for one in needs.get(number, ()) if one in self._left} for number in numbers}
        self._waits = {number: len(some) for number, some in self._wanted.items()}
        self._after: dict[int, list[int]] = {}
        for number, some in self._wanted.items():
            for other in some:
                self._after.setdefault(other, []).append(number)
        # What harm each step would do, as the hinges stand by now.
        self._harm = {
            number: sum(hinges[place].weight(1 << bit) for place, bit in places)
            for number, places in self._of_step.items()
        }
        # How much less harm all others would do after each step, and what of that is of each hinge.
        self._eases = [[self._eased(place, bit) for bit in range(len(one.steps))] for place, one in enumerate(hinges)]
        self._ease = {
            number: sum(self._eases[place][bit] for place, bit in places) for number, places in self._of_step.items()
        }
        self._circle: list[int] = []
        self._ready: list[int] = []
        for number in numbers:
            self._offer(number)

    def _offer(self, number: int) -> None:
        if number in self._left and not self._waits[number] and not self._harm[number]:
            heappush(self._ready, number)

    def steps(self) -> Iterator[tuple[int, int]]:
        """Yield the steps in their order with the harm that each does."""
        while self._left:
            number = self._next()
            del self._left[number]
            yield number, self._harm[number]
            self._make(number)

    def _next(self) -> int:
        while self._ready:
            number = heappop(self._ready)
            if number in self._left and not self._waits[number] and not self._harm[number]:
                return number
        self._circle = [number for number in self._circle if number in self._left] or self._find_circle()
        free = [number for number in self._circle if not self._waits[number]] or self._circle
        return min(free, key=lambda number: (self._harm[number] - self._ease[number], number))

    def _find_circle(self) -> list[int]:
        """Return steps that wait for nothing but each other: of all others a harmless order may come yet.

        They are a strongly connected part of what waits for what, and nothing leads out of it: the first that is
        closed (R. Tarjan, Depth-first search and linear graph algorithms, 1972).
        """
        index: dict[int, int] = {}
        low: dict[int, int] = {}
        open_steps: list[int] = []
        first = next(iter(self._left))
        path = [(first, self._waited_for(first))]
        index[first] = low[first] = 0
        open_steps.append(first)
        while True:
            number, others = path[-1]
            other = next(others, None)
            if other is None:
                if low[number] == index[number]:
                    return open_steps[open_steps.index(number) :]
                path.pop()
                above = path[-1][0]
                low[above] = min(low[above], low[number])
            elif other not in index:
                index[other] = low[other] = len(index)
                open_steps.append(other)
                path.append((other, self._waited_for(other)))
            else:
                low[number] = min(low[number], index[other])

    def _eased(self, place: int, bit: int) -> int:
        """Return how much less harm the others of a hinge would do to it after one of its steps."""
        hinge, now = self._hinges[place], self._now[place]
        number, made = hinge.steps[bit], now | 1 << bit
        return sum(
            hinge.weight(now | 1 << other_bit) - hinge.weight(made | 1 << other_bit)
            for other_bit, other in enumerate(hinge.steps)
            if other != number and other in self._left
        )

    def _waited_for(self, number: int) -> Iterator[int]:
        """Yield the steps after which one may harm less than it would now, and those that it needs."""
        yield from (other for other in self._wanted[number] if other in self._left)
        for place, bit in self._of_step[number]:
            hinge, now = self._hinges[place], self._now[place] | 1 << bit
            harm = hinge.weight(now)
            if harm:
                others = [(b, one) for b, one in enumerate(hinge.steps) if one in self._left and one != number]
                helping = [one for b, one in others if hinge.weight(now | 1 << b) < harm]
                yield from helping or (one for _, one in others)

    def _make(self, number: int) -> None:
        for other in self._after.get(number, ()):
            self._waits[other] -= 1
            self._offer(other)
        for place, bit in self._of_step[number]:
            hinge, old = self._hinges[place], self._now[place]
            made = self._now[place] = old | 1 << bit
            for other_bit, other in enumerate(hinge.steps):
                change = hinge.weight(made | 1 << other_bit) - hinge.weight(old | 1 << other_bit)
                if other not in self._left:
                    continue
                ease = self._eased(place, other_bit)
                self._ease[other] += ease - self._eases[place][other_bit]
                self._eases[place][other_bit] = ease
                if change:
                    self._harm[other] += change
                    self._offer(other)


# By trying whole offices ----------------------------------------------------------------------------------


class Prober(Protocol):
    """Tells the rights of those concerned, as flags a cell, after some steps of a group were made."""

    def cells(self, made: Sequence[int]) -> Cells | None:
        """Return the cells after these steps in this order; None where one does not fit then."""


def try_out(group: Sequence[int], prober: Prober) -> list[Placed]:
    """Return steps in an order in which each is the first that harms nobody, or the one that harms least."""
    start, end = prober.cells(()), prober.cells(group)
    if start is None or end is None or start.shape != end.shape:
        # They do not fit alone: they stay as they were found, each after what it needs.
        return [Placed(number) for number in group]
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
        found.append(Placed(best[1], best[2]))
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
