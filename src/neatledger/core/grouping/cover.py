"""The fewest groups that together give everybody exactly what they have, or a few people a little more.

People × what they have is a table of yes and no; a group is a rectangle in it (its people, each of whom has all that
it gives), and what is sought are the fewest rectangles that cover every yes and no no. Rectangles need only be looked
at whose gifts are an intersection of what people have (the closed sets of formal concept analysis): any other can be
widened to one. So it is an integer programme; where it grows too large for that, a good cover is found step by step,
and a bound says how far from the fewest it can be: of cells no two of which any rectangle holds, each needs its own.
"""

from __future__ import annotations

from collections.abc import Collection, Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from heapq import nlargest, nsmallest
from itertools import combinations
from time import monotonic
from typing import Any

import numpy as np
from numpy.typing import NDArray

__all__ = ["Cover", "CoverGroup", "fewest_groups"]

_MOST_SETS, _MOST_CELLS, _MOST_ROWS = 3_000, 200_000, 60_000
"""Sets, sets × people and cells of a table up to which a programme is solved."""
_MOST_TRIED, _MOST_GROWN = 20, 200
"""Cells of each person, and columns, that are looked at where there are too many to look at all."""
_SECONDS = 14.0
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
        return len(self.groups) <= self.at_least and not self.is_by_name

    @property
    def is_by_name(self) -> bool:
        """Tell whether these are no groups at all: each is of one person, or there are as many as people."""
        people = {person for one in self.groups for person in one.people}
        return len(people) > 1 and len(self.groups) >= len(people)


def fewest_groups(
    people: Sequence[str],
    holders: Mapping[Any, int],
    may_gain: int = 0,
    known: Collection[frozenset[str]] = (),
    seconds: float = _SECONDS,
) -> Cover:
    """Return the fewest groups that cover what people have, with at most so many people who gain something.

    `holders` says of each thing which of the people have it, as bits of their places. `known` are groups that are
    there: of covers of as many groups one with these is taken.
    """
    until = monotonic() + seconds
    table = _Table(people, holders)
    if not table.rows:
        return Cover((), 0)
    sets, is_all = table.sets(may_gain)
    # Who may have more than they do makes cells hang together that else do not.
    at_least = 1 if may_gain else table.apart()
    found: list[list[tuple[int, list[int]]]] = []
    if not is_all:
        found.append(_one_by_one(table, seconds / 2))
        # What each of them has comes first: with these every cell is in one of the sets.
        some = dict.fromkeys([*table.rows, *(gives for gives, _ in found[0]), *sets])
        sets = list(some)[: max(len(table.rows), _MOST_CELLS // len(table.rows))]
    cells = sum(row.bit_count() for row in table.rows)
    if len(sets) * len(table.rows) <= _MOST_CELLS and cells <= _MOST_ROWS:
        chosen, bound = _solve(table, sets, may_gain, known, until)
        at_least = max(at_least, bound) if is_all else at_least
        found += [chosen] if chosen is not None else []
    if not found:
        found.append(_one_by_one(table, max(0.0, until - monotonic())))
    return table.cover(min(found, key=len), at_least, set(known))


@dataclass(slots=True)
class _Made:
    """A group while it is made: what it gives, the rows in it, and whether it is there already."""

    gives: list[int]
    rows: list[int]
    is_known: bool


class _Table:
    """What people have as bits, people alike in one row and what the same people have in one column."""

    def __init__(self, people: Sequence[str], holders: Mapping[Any, int]) -> None:
        columns: dict[int, list[Any]] = {}
        for one, bits in holders.items():
            if bits:
                columns.setdefault(bits, []).append(one)
        self.columns = list(columns.values())
        by_person = [0] * len(people)
        for number, bits in enumerate(columns):
            for place in _bits(bits):
                by_person[place] |= 1 << number
        alike: dict[int, list[str]] = {}
        for person, bits in zip(people, by_person, strict=True):
            if bits:
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
        holders = self.holders()
        chosen: list[tuple[int, int]] = []
        cells = []
        for place, row in enumerate(self.rows):
            # Cells of what few have are the likeliest to be apart from each other.
            rarest = nsmallest(_MOST_TRIED, _bits(row), key=lambda column: holders[column].bit_count())
            cells += [(holders[column].bit_count(), place, column) for column in rarest]
        for _, place, column in sorted(cells):
            row = self.rows[place]
            if all(not (row >> other & 1 and holders[column] >> there & 1) for there, other in chosen):
                chosen.append((place, column))
        return len(chosen)

    def holders(self) -> list[int]:
        """Return of every column the rows that have it, as bits."""
        found = [0] * len(self.columns)
        for place, row in enumerate(self.rows):
            for column in _bits(row):
                found[column] |= 1 << place
        return found

    def cover(self, chosen: list[tuple[int, list[int]]], at_least: int, known: Collection[frozenset[str]]) -> Cover:
        """Return a cover of sets with the rows that are in each; what is given twice is left out."""
        made = [_Made(_bits(gives), rows, self._people_of(rows) in known) for gives, rows in chosen]
        has, times = self._has(), np.zeros((len(self.rows), len(self.columns)), dtype=np.int32)
        for one in made:
            times[np.ix_(one.rows, one.gives)] += 1
        # Groups that are there stay as they are; of the others first people are left out, of the largest first.
        made.sort(key=lambda one: (one.is_known, -len(one.rows)))
        for one in made:
            self._leave_out_people(one, has, times, known)
        for one in made:
            cells = np.ix_(one.rows, one.gives)
            # What all in it have by others need not be given again.
            spare = np.asarray(((times[cells] > 1) | ~has[cells]).all(axis=0)).tolist()
            twice = [gift for gift, is_spare in zip(one.gives, spare, strict=True) if is_spare]
            times[np.ix_(one.rows, twice)] -= 1
            one.gives = [gift for gift, is_spare in zip(one.gives, spare, strict=True) if not is_spare]
        groups = [one for one in made if one.rows and one.gives]
        found = tuple(CoverGroup(self._people_of(one.rows), self._things(one.gives)) for one in groups)
        gains: dict[str, frozenset[Any]] = {}
        for number, beyond in enumerate((times > 0) & ~has):
            if beyond.any():
                gains |= dict.fromkeys(self.people[number], self._things(np.flatnonzero(beyond).tolist()))
        return Cover(found, min(at_least, len(found)), gains)

    def _has(self) -> NDArray[np.bool_]:
        found = np.zeros((len(self.rows), len(self.columns)), dtype=bool)
        for place, row in enumerate(self.rows):
            found[place, _bits(row)] = True
        return found

    def _leave_out_people(
        self, one: _Made, has: NDArray[np.bool_], times: NDArray[np.int32], known: Collection[frozenset[str]]
    ) -> None:
        """Leave out of a group whom it gives nothing that others do not; down to a group that is there if it can."""
        if one.is_known:
            return
        cells = np.ix_(one.rows, one.gives)
        is_needed = (has[cells] & (times[cells] == 1)).any(axis=1)
        needed = {row for row, is_so in zip(one.rows, is_needed.tolist(), strict=True) if is_so}
        fitting = []
        for some in known if needed else ():
            rows = [row for row in one.rows if some >= set(self.people[row])]
            if needed <= set(rows) and self._people_of(rows) == some:
                fitting.append(rows)
        one.is_known = bool(fitting)
        kept = min(fitting, key=len) if fitting else sorted(needed)
        times[np.ix_(sorted(set(one.rows) - set(kept)), one.gives)] -= 1
        one.rows = kept

    def _people_of(self, rows: Iterable[int]) -> frozenset[str]:
        return frozenset(one for row in rows for one in self.people[row])

    def _things(self, columns: Iterable[int]) -> frozenset[Any]:
        return frozenset(one for column in columns for one in self.columns[column])


def _bits(bits: int) -> list[int]:
    # As a text of digits: shifting a long number bit by bit takes its length each time.
    digits, found = bin(bits)[:1:-1], []
    place = digits.find("1")
    while place >= 0:
        found.append(place)
        place = digits.find("1", place + 1)
    return found


def _solve(
    table: _Table, sets: list[int], may_gain: int, known: Collection[frozenset[str]], until: float
) -> tuple[list[tuple[int, list[int]]] | None, int]:
    """Return sets with the rows in each, and how many any choice of the sets needs; None where time ran out.

    Telling the solver of it all takes time as well: that too ends `until` then (`time.monotonic`).
    """
    import highspy

    model = highspy.Highs()
    model.silent()
    model.setOptionValue("mip_rel_gap", 0.0)
    there = set(known)
    is_used, is_in = [], {}
    gaining = [model.addBinary() for _ in table.rows] if may_gain else []
    for number, gives in enumerate(sets):
        if monotonic() > until:
            return None, 0
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
        if monotonic() > until:
            return None, 0
        inside = [(gives, is_in[number, place]) for number, gives in enumerate(sets) if (number, place) in is_in]
        for column in _bits(row):
            model.addConstr(sum(one for gives, one in inside if gives >> column & 1) >= 1)
    model.setOptionValue("time_limit", max(0.1, until - monotonic()))
    model.minimize()
    bound = model.getInfo().mip_dual_bound
    at_least = max(0, int(-(-(bound - 0.01) // 1))) if abs(bound) < 1e9 else 0
    values = model.getSolution().col_value
    if not model.getSolution().value_valid:
        return None, at_least
    return _chosen(table, sets, values, is_used, is_in), at_least


def _chosen(
    table: _Table,
    sets: list[int],
    values: Sequence[float],
    is_used: Sequence[Any],
    is_in: Mapping[tuple[int, int], Any],
) -> list[tuple[int, list[int]]]:
    """Return the sets that a solver chose, with the rows in each."""
    chosen = []
    for number, gives in enumerate(sets):
        if values[is_used[number].index] > 0.5:
            rows = [place for place in range(len(table.rows)) if (number, place) in is_in
                    and values[is_in[number, place].index] > 0.5]  # fmt: skip
            chosen.append((gives, rows))
    return chosen


def _one_by_one(table: _Table, seconds: float) -> list[tuple[int, list[int]]]:
    """Return sets one after the other, each grown column by column as long as it covers more of what is left.

    After R. Belohlavek and V. Vychodil, Discovery of optimal factors in binary data via a novel method of matrix
    decomposition (2010), algorithm 2. When time is up, what is left is covered a column at a time.
    """
    holders, until = table.holders(), monotonic() + seconds
    left, open_rows = list(table.rows), list(holders)
    weight = [len(people) for people in table.people]
    chosen: list[tuple[int, list[int]]] = []
    while any(open_rows) and monotonic() < until:
        ranked = nlargest(_MOST_GROWN, range(len(holders)), key=lambda column: open_rows[column].bit_count())
        rows, gives, most = (1 << len(left)) - 1, 0, 0
        while True:
            best = None
            for column in ranked:
                inside = rows & holders[column]
                if gives >> column & 1 or not inside or not open_rows[column]:
                    continue
                places = _bits(inside)
                given = ~0
                for place in places:
                    given &= table.rows[place]
                covers = sum((given & left[place]).bit_count() * weight[place] for place in places)
                if covers > most:
                    most, best = covers, (inside, given)
            if best is None:
                break
            rows, gives = best
        _take(rows, gives, left, open_rows, chosen)
    for column in sorted(range(len(holders)), key=lambda column: -open_rows[column].bit_count()):
        if open_rows[column]:
            given, still_open = ~0, 0
            for place in _bits(holders[column]):
                given &= table.rows[place]
                still_open |= left[place]
            given &= still_open
            _take(holders[column], given, left, open_rows, chosen)
    return chosen


def _take(rows: int, gives: int, left: list[int], open_rows: list[int], chosen: list[tuple[int, list[int]]]) -> None:
    """Choose a set: what it covers is left no more."""
    places = _bits(rows)
    chosen.append((gives, places))
    for place in places:
        left[place] &= ~gives
    for column in _bits(gives):
        open_rows[column] &= ~rows
