"""The fewest groups that together give everybody exactly what they have, or a few people a little more.

People × what they have is a table of yes and no; a group is a rectangle in it (its people, each of whom has all that
it gives), and what is sought are the fewest rectangles that cover every yes and no no. Rectangles need only be looked
at whose gifts are an intersection of what people have (the closed sets of formal concept analysis): any other can be
widened to one. So it is an integer programme; where it grows too large for that, a good cover is found step by step,
and a bound says how far from the fewest it can be: of cells no two of which any rectangle holds, each needs its own.
"""

from __future__ import annotations

from collections.abc import Collection, Hashable, Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from itertools import combinations
from typing import Any

import numpy as np

__all__ = ["Cover", "CoverGroup", "fewest_groups"]

_MOST_SETS, _MOST_CELLS = 3_000, 200_000
_SECONDS = 20.0
_PREFERENCE = 1e-3
"""How much less a group counts that is there already: it decides between covers of as many groups."""


@dataclass(frozen=True, slots=True)
class CoverGroup:
    """One group: its people, and what it gives each of them."""

    people: frozenset[str]
    gives: frozenset[Any]


@dataclass(frozen=True, slots=True)
class Cover:
    """Groups that together give what people have; `gains` is what anybody gets beyond it.

    `at_least` is how many any cover needs; where that is as many as these, they are proved to be the fewest.
    """

    groups: tuple[CoverGroup, ...]
    at_least: int
    gains: Mapping[str, frozenset[Any]] = field(default_factory=dict)

    @property
    def is_fewest(self) -> bool:
        """Tell whether no cover has fewer groups."""
        return len(self.groups) <= self.at_least


def fewest_groups(
    has: Mapping[str, Collection[Hashable]],
    may_gain: int = 0,
    known: Collection[frozenset[str]] = (),
    seconds: float = _SECONDS,
) -> Cover:
    """Return the fewest groups that cover what people have, with at most so many people who gain something.

    `known` are groups that are there: of covers of as many groups one with these is taken.
    """
    table = _Table(has)
    if not table.rows:
        return Cover((), 0)
    sets, is_all = table.sets(may_gain)
    # Who may have more than they do makes cells hang together that else do not.
    at_least = 1 if may_gain else table.apart()
    found: list[list[tuple[int, list[int]]]] = []
    if not is_all:
        found.append(_one_by_one(table))
        sets = list(dict.fromkeys([*(gives for gives, _ in found[0]), *sets]))[: _MOST_CELLS // len(table.rows)]
    if len(sets) * len(table.rows) <= _MOST_CELLS:
        chosen, bound = _solve(table, sets, may_gain, known, seconds)
        at_least = max(at_least, bound) if is_all else at_least
        found += [chosen] if chosen is not None else []
    if not found:
        found.append(_one_by_one(table))
    return table.cover(min(found, key=len), at_least, set(known))


@dataclass(slots=True)
class _Made:
    """A group while it is made: what it gives, the rows in it, and whether it is there already."""

    gives: int
    rows: set[int]
    is_known: bool


class _Table:
    """What people have as bits, people alike in one row and what the same people have in one column."""

    def __init__(self, has: Mapping[str, Collection[Hashable]]) -> None:
        holders: dict[Hashable, set[str]] = {}
        for person, some in has.items():
            for one in some:
                holders.setdefault(one, set()).add(person)
        columns: dict[frozenset[str], list[Hashable]] = {}
        for one, people in holders.items():
            columns.setdefault(frozenset(people), []).append(one)
        self.columns = list(columns.values())
        by_person = dict.fromkeys((person for person, some in has.items() if some), 0)
        for number, some in enumerate(columns):
            for person in some:
                by_person[person] |= 1 << number
        alike: dict[int, list[str]] = {}
        for person, bits in by_person.items():
            alike.setdefault(bits, []).append(person)
        self.rows, self.people = list(alike), list(alike.values())

    def sets(self, may_gain: int) -> tuple[list[int], bool]:
        """Return what groups could give, and whether that is all that need be looked at."""
        found: dict[int, None] = dict.fromkeys(self.rows)
        is_all = True
        for row in self.rows:
            found |= dict.fromkeys(one & row for one in list(found) if one & row)
            if len(found) > _MOST_SETS:
                is_all = False
                break
        # A group only of people who gain by it gives the union of what these have.
        for size in range(2, may_gain + 1):
            for some in combinations(self.rows, size):
                union = 0
                for row in some:
                    union |= row
                found[union] = None
                if len(found) > 2 * _MOST_SETS:
                    return list(found), False
        return list(found), is_all

    def apart(self) -> int:
        """Return a number of cells no two of which one group could hold."""
        chosen: list[tuple[int, int]] = []
        cells = [(row, column) for row in self.rows for column in _bits(row)]
        # Cells of what few have are the likeliest to be apart from each other.
        cells.sort(key=lambda cell: sum(row >> cell[1] & 1 for row in self.rows))
        for row, column in cells:
            if all(not (row >> other & 1 and there >> column & 1) for there, other in chosen):
                chosen.append((row, column))
        return len(chosen)

    def cover(self, chosen: list[tuple[int, list[int]]], at_least: int, known: Collection[frozenset[str]]) -> Cover:
        """Return a cover of sets with the rows that are in each; what is given twice is left out."""
        made = [_Made(gives, set(rows), self._people_of(rows) in known) for gives, rows in chosen]
        # Groups that are there stay as they are; of the others first people are left out, of the largest first.
        made.sort(key=lambda one: (one.is_known, -len(one.rows)))
        for one in made:
            self._leave_out_people(one, made, known)
        for one in made:
            self._leave_out_gifts(one, made)
        groups = tuple(
            CoverGroup(self._people_of(one.rows), self._things(one.gives)) for one in made if one.rows and one.gives
        )
        gains: dict[str, frozenset[Any]] = {}
        for number, row in enumerate(self.rows):
            beyond = 0
            for one in made:
                beyond |= one.gives & ~row if number in one.rows else 0
            if beyond:
                gains |= dict.fromkeys(self.people[number], self._things(beyond))
        return Cover(groups, min(at_least, len(groups)), gains)

    def _leave_out_people(self, one: _Made, made: Sequence[_Made], known: Collection[frozenset[str]]) -> None:
        """Leave out of a group whom it gives nothing that others do not; down to a group that is there if it can."""
        if one.is_known:
            return
        by_others = self._by_others(one, made)
        needed = {row for row in one.rows if one.gives & self.rows[row] & ~by_others[row]}
        fitting = [
            rows
            for some in known
            if needed <= (rows := {row for row in one.rows if some >= set(self.people[row])})
            and self._people_of(rows) == some
        ]
        one.is_known = bool(fitting and needed)
        one.rows = min(fitting, key=len) if one.is_known else needed

    def _leave_out_gifts(self, one: _Made, made: Sequence[_Made]) -> None:
        """Leave out of what a group gives what all in it have by others."""
        by_others = self._by_others(one, made)
        for column in _bits(one.gives):
            if all(by_others[row] >> column & 1 or not self.rows[row] >> column & 1 for row in one.rows):
                one.gives &= ~(1 << column)

    def _by_others(self, one: _Made, made: Sequence[_Made]) -> dict[int, int]:
        found = dict.fromkeys(one.rows, 0)
        for other in made:
            for row in one.rows & other.rows if other is not one else ():
                found[row] |= other.gives
        return found

    def _people_of(self, rows: Iterable[int]) -> frozenset[str]:
        return frozenset(one for row in rows for one in self.people[row])

    def _things(self, bits: int) -> frozenset[Any]:
        return frozenset(one for column in _bits(bits) for one in self.columns[column])


def _bits(bits: int) -> list[int]:
    return [number for number in range(bits.bit_length()) if bits >> number & 1]


def _solve(
    table: _Table, sets: list[int], may_gain: int, known: Collection[frozenset[str]], seconds: float
) -> tuple[list[tuple[int, list[int]]] | None, int]:
    """Return sets with the rows in each, and how many any choice of the sets needs; None where time ran out."""
    import highspy

    model = highspy.Highs()
    model.silent()
    model.setOptionValue("time_limit", seconds)
    model.setOptionValue("mip_rel_gap", 0.0)
    there = set(known)
    is_used, is_in = [], {}
    gaining = [model.addBinary() for _ in table.rows] if may_gain else []
    for number, gives in enumerate(sets):
        whole = [place for place, row in enumerate(table.rows) if not gives & ~row]
        people = frozenset(one for place in whole for one in table.people[place])
        is_used.append(model.addBinary(obj=1 - (_PREFERENCE if people in there else 0)))
        for place in whole:
            is_in[number, place] = is_used[number]
        for place, row in enumerate(table.rows) if may_gain else ():
            if place not in whole and gives & row:
                some = model.addBinary()
                is_in[number, place] = some
                model.addConstr(some <= is_used[number])
                model.addConstr(some <= gaining[place])
    if may_gain:
        model.addConstr(sum(len(table.people[place]) * one for place, one in enumerate(gaining)) <= may_gain)
    for place, row in enumerate(table.rows):
        for column in _bits(row):
            some = [is_in[number, place] for number, gives in enumerate(sets)
                    if gives >> column & 1 and (number, place) in is_in]  # fmt: skip
            model.addConstr(sum(some) >= 1)
    model.minimize()
    bound = model.getInfo().mip_dual_bound
    at_least = max(0, int(-(-(bound - 0.01) // 1))) if abs(bound) < 1e9 else 0
    values = model.getSolution().col_value
    if not model.getSolution().value_valid:
        return None, at_least
    chosen = []
    for number, gives in enumerate(sets):
        if values[is_used[number].index] > 0.5:
            rows = [place for place in range(len(table.rows)) if (number, place) in is_in
                    and values[is_in[number, place].index] > 0.5]  # fmt: skip
            chosen.append((gives, rows))
    return chosen, at_least


def _one_by_one(table: _Table) -> list[tuple[int, list[int]]]:
    """Return sets one after the other, each grown column by column as long as it covers more of what is left.

    After R. Belohlavek and V. Vychodil, Discovery of optimal factors in binary data via a novel method of matrix
    decomposition (2010), algorithm 2.
    """
    width = len(table.columns)
    has = np.array([[row >> column & 1 for column in range(width)] for row in table.rows], dtype=bool)
    left = has.copy()
    weight = np.array([len(people) for people in table.people])
    chosen = []
    while left.any():
        rows, gives, most = np.ones(len(has), dtype=bool), np.zeros(width, dtype=bool), 0
        while True:
            best = None
            for column in np.flatnonzero(left.any(axis=0) & ~gives).tolist():
                inside = rows & has[:, column]
                given = has[inside].all(axis=0)
                covers = int((left[inside][:, given].sum(axis=1) * weight[inside]).sum())
                if covers > most:
                    most, best = covers, (inside, given)
            if best is None:
                break
            rows, gives = best
        bits = sum(1 << column for column in np.flatnonzero(gives).tolist())
        chosen.append((bits, np.flatnonzero(rows).tolist()))
        left[np.ix_(rows, gives)] = False
    return chosen
