"""The hinges of steps on a system: on which of them each cell of its table of access hangs, and what harms it.

A cell is one person on one folder, or on the files of one sort in it. It hangs on the steps that move the person
(their accounts and groups) and on those on the folder, on all above it and on the files. Every set of these is a
state in which the person stands as a principal of their own (`core.access.varied`), and all cells of all states are
worked out together. Of a cell that hangs on too many steps only one order of them is looked at.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from itertools import pairwise
from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from neatledger.core.access.everyone import Everyone
from neatledger.core.access.people_flags import PeopleFlags
from neatledger.core.access.shares import SystemTerms
from neatledger.core.access.varied import Stage, VariedMatrix
from neatledger.core.lists.table import MODELS
from neatledger.core.people.principals import Principal
from neatledger.core.steps.contract import FileSort, Step
from neatledger.core.steps.folders import FolderStep
from neatledger.core.steps.lists import FilesStep, ListStep
from neatledger.core.steps.moved import StatesOf
from neatledger.core.steps.order import Hinge
from neatledger.core.tree.address import parts_of
from neatledger.core.tree.folding import FoldedTree, fold_tree
from neatledger.core.tree.order import TreeOrder
from neatledger.core.tree.table import Table

__all__ = ["Cell", "Ground", "Hinges", "find_hinges"]

Ints = NDArray[np.signedinteger[Any]]
_MOST_STEPS = 8
"""On so many steps a cell may hang with every set of them looked at."""
_COLUMNS = 4096
"""So many states of people are worked out at once."""


class Cell(NamedTuple):
    """Whose rights, on which row of the folders, or on files in it; and how many folders are alike in that."""

    person: str
    row: int
    is_files: bool
    number: int


@dataclass(frozen=True)
class Ground:
    """A system on which steps are made, with the folders that they make in it: its tables, bodies and owners."""

    folders: Table
    classes: Table
    lists: Sequence[bytes]
    idents: Sequence[str]
    terms: SystemTerms


@dataclass
class Hinges:
    """Hinges with the cells that their places stand for, and the order to keep where no other was looked at."""

    hinges: list[Hinge] = field(default_factory=list)
    cells: list[Cell] = field(default_factory=list)
    needs: dict[int, set[int]] = field(default_factory=dict)


def find_hinges(
    ground: Ground, steps: Mapping[int, Step], people: Mapping[int, frozenset[str]], states_of: StatesOf
) -> Hinges:
    """Return the hinges of steps of one system, by their numbers; `people` are those whose rights hang on each."""
    return _Finder(ground, steps, people, states_of).find()


@dataclass(frozen=True)
class _Part:
    """States of one person: the steps that move them, and the sets of steps looked at, for some of the folders."""

    person: str
    own: tuple[int, ...]
    depth: int
    rows: Ints

    @property
    def is_chain(self) -> bool:
        return len(self.own) + self.depth > _MOST_STEPS

    @property
    def sets(self) -> Sequence[int]:
        """The sets of steps that are looked at; bit j of each stands for step j of a cell."""
        bits = len(self.own) + self.depth
        return [(1 << n) - 1 for n in range(bits + 1)] if self.is_chain else range(1 << bits)

    def made(self, bit: int) -> NDArray[np.bool_]:
        """Mark the sets that have a step."""
        return np.array([made >> bit & 1 for made in self.sets], dtype=bool)


class _Finder:
    def __init__(
        self, ground: Ground, steps: Mapping[int, Step], people: Mapping[int, frozenset[str]], states_of: StatesOf
    ) -> None:
        self.steps, self.people, self.states_of, self.terms = steps, people, states_of, ground.terms
        self.model = MODELS[ground.terms.model.name]
        self.lists, self.idents = list(ground.lists), list(ground.idents)
        self._list_numbers = {body: number for number, body in reversed(list(enumerate(self.lists)))}
        self._ident_numbers = {ident: number for number, ident in reversed(list(enumerate(self.idents)))}
        self.tree = self._folded(ground)
        self.order = TreeOrder(self.tree.folders)
        self.at_row: dict[int, list[int]] = {}
        self.at_files: dict[int, list[int]] = {}
        self._place_steps()
        self.found = Hinges()
        self._paths: dict[str, list[tuple[int, ...]]] = {}
        self._parents = self.order.parent.tolist()
        self._folders_made = {
            number: {row for row, numbers in self.at_row.items() if number in numbers}
            for number, step in steps.items()
            if isinstance(step, FolderStep)
        }

    def _folded(self, ground: Ground) -> FoldedTree:
        order = TreeOrder(ground.folders)
        tops = {
            step.path if isinstance(step, ListStep | FilesStep | FolderStep) else b"/" for step in self.steps.values()
        }
        marked = {row for path in tops if (row := order.find_row(parts_of(path))) is not None}
        wanted = np.zeros(ground.folders.rows, dtype=bool)
        if b"/" in tops:
            wanted[:] = True
        else:
            wanted |= order.mark_below(parts_of(path) for path in tops)
        ways = [share.parts for share in self.terms.shares or ()] + [one.parts for one in self.terms.mounts]
        marked |= {row for parts in ways if (row := order.find_row(parts)) is not None}
        kept = np.zeros(ground.folders.rows, dtype=bool)
        for row in marked:
            while row >= 0 and not kept[row]:
                kept[row] = True
                row = int(order.parent[row])
        kept[:1] = True
        return fold_tree(ground.folders, ground.classes, kept, wanted | kept)

    def _place_steps(self) -> None:
        """Find the rows of folders and of files that each step is of, as they stand when it comes."""
        classes = self.tree.classes
        first = np.searchsorted(classes["folder"], np.arange(self.tree.folders.rows + 1))
        for number, step in sorted(self.steps.items()):
            if not isinstance(step, ListStep | FilesStep | FolderStep):
                continue
            row = self.order.find_row(parts_of(step.path))
            if row is None:
                continue
            if not isinstance(step, FilesStep):
                self.at_row.setdefault(row, []).append(number)
                continue
            for place in range(int(first[row]), int(first[row + 1])):
                before = self.idents[int(classes["owner"][place])], self.lists[int(classes["list"][place])]
                stands = FileSort(*before)
                for other in self.at_files.get(place, ()):
                    earlier = self.steps[other]
                    assert isinstance(earlier, FilesStep)
                    stands = earlier.after
                if stands == step.before:
                    self.at_files.setdefault(place, []).append(number)

    def _number(self, body: bytes) -> int:
        if body not in self._list_numbers:
            self._list_numbers[body] = len(self.lists)
            self.lists.append(body)
        return self._list_numbers[body]

    def _ident(self, ident: str) -> int:
        if ident not in self._ident_numbers:
            self._ident_numbers[ident] = len(self.idents)
            self.idents.append(ident)
        return self._ident_numbers[ident]

    # Parts ------------------------------------------------------------------------------------------

    def find(self) -> Hinges:
        waiting: list[_Part] = []
        width = 0
        for part in self._parts():
            states = len(part.sets)
            if waiting and width + states > _COLUMNS:
                self._work_out(waiting)
                waiting, width = [], 0
            waiting.append(part)
            width += states
        if waiting:
            self._work_out(waiting)
        return self.found

    def _parts(self) -> Iterator[_Part]:
        of_person: dict[str, list[int]] = {}
        for number in sorted(self.steps):
            for person in self.people[number]:
                of_person.setdefault(person, []).append(number)
        everything = np.arange(self.tree.folders.rows)
        for person, numbers in sorted(of_person.items()):
            own = [one for one in numbers if not isinstance(self.steps[one], ListStep | FilesStep | FolderStep)]
            depths = self._depths(person)
            if len(own) + int(depths.max(initial=0)) <= _MOST_STEPS:
                yield _Part(person, tuple(own), int(depths.max(initial=0)), everything)
                continue
            marks = self._relevant(own)
            masks = set(np.unique(marks).tolist())
            left = np.ones(len(marks), dtype=bool)
            for mask in sorted(masks, key=int.bit_count, reverse=True):
                if any(mask != other and mask & ~other == 0 for other in masks):
                    continue
                rows = np.flatnonzero(left & (marks & ~mask == 0))
                left[rows] = False
                some = tuple(one for place, one in enumerate(own) if mask >> place & 1)
                # What gives before what takes: where one order alone is looked at, it is the one that harms less.
                some = tuple(sorted(some, key=lambda one: (self.states_of.takes(self.steps[one]), one)))
                yield _Part(person, some, int(depths[rows].max(initial=0)), rows)

    def _theirs(self, numbers: Iterable[int], person: str) -> list[int]:
        return [number for number in numbers if person in self.people[number]]

    def _depths(self, person: str) -> Ints:
        """Return on how many steps on folders and files a person's cells hang, by folder."""
        found = np.zeros(self.tree.folders.rows, dtype=np.int64)
        for row, numbers in self.at_row.items():
            found[row] = len(self._theirs(numbers, person))
        parent = self.tree.folders["parent"]
        for first, last in self.order.levels[1:]:
            found[first:last] += found[parent[first:last]]
        more = np.zeros_like(found)
        for place, numbers in self.at_files.items():
            row = int(self.tree.classes["folder"][place])
            more[row] = max(int(more[row]), len(self._theirs(numbers, person)))
        return found + more

    def _relevant(self, own: Sequence[int]) -> Ints:
        """Return which of a person's own steps matter on each folder, as bits: a list there or above names them."""
        idents = [self.states_of.idents_of(self.steps[one]) for one in own]
        always = sum(1 << place for place, one in enumerate(idents) if one is None)
        for share in self.terms.shares or ():
            named = MODELS["nt"].parse(share.body).named | {*(share.enters or ()), *share.writers}
            always |= sum(1 << place for place, one in enumerate(idents) if one and one & named)
        known: dict[int, int] = {}

        def of_item(number: int, owner: str) -> int:
            if number not in known:
                named = self.model.parse(self.lists[number]).named
                known[number] = sum(1 << place for place, one in enumerate(idents) if one and one & named)
            return known[number] | sum(1 << place for place, one in enumerate(idents) if one and owner in one)

        found = np.full(self.tree.folders.rows, always, dtype=object)
        for row, number, owner in self._items(is_files=False):
            found[row] |= of_item(number, owner)
        for row, parent in enumerate(self._parents[1:], start=1):
            found[row] |= found[parent]
        for row, number, owner in self._items(is_files=True):
            found[row] |= of_item(number, owner)
        return found

    def _items(self, *, is_files: bool) -> Iterator[tuple[int, int, str]]:
        """Yield the folders, or the files in them, as they are and as steps make them: row, list and owner."""
        table = self.tree.classes if is_files else self.tree.folders
        rows = table["folder"].tolist() if is_files else range(table.rows)
        for row, number, owner in zip(rows, table["list"].tolist(), table["owner"].tolist(), strict=True):
            yield row, number, self.idents[owner]
        for place, numbers in (self.at_files if is_files else self.at_row).items():
            for number in numbers:
                step = self.steps[number]
                if isinstance(step, ListStep | FilesStep):
                    yield rows[place], self._number(step.after.body), step.after.owner

    # Working out ------------------------------------------------------------------------------------

    def _work_out(self, parts: Sequence[_Part]) -> None:
        principals: list[Principal] = []
        names: list[str] = []
        begins: list[int] = []
        made_by: dict[int, int] = {}  # step → the bits of the principals for whom it is made
        ranks: dict[str, dict[int, int]] = {}
        for part in parts:
            begins.append(len(names))
            rank = ranks.setdefault(part.person, self._ranks(part.person))
            known: dict[int, list[Principal]] = {}
            inside = (1 << len(part.own)) - 1
            marks: dict[int, int] = {}  # bit of a set → the bits of the principals in whose sets it is
            for made in part.sets:
                own = made & inside
                if own not in known:
                    some = [self.steps[one] for place, one in enumerate(part.own) if own >> place & 1]
                    known[own] = self.states_of.principals(part.person, some)
                name = str(len(names))
                bits = (1 << len(known[own])) - 1 << len(principals)
                for place in range(len(part.own), len(part.own) + part.depth):
                    if made >> place & 1:
                        marks[place - len(part.own)] = marks.get(place - len(part.own), 0) | bits
                for one in known[own]:
                    login = f"{one.account.login}\0{name}"
                    principals.append(replace(one, person=name, account=replace(one.account, login=login)))
                names.append(name)
            for number, place in rank.items():
                made_by[number] = made_by.get(number, 0) | marks.get(place, 0)
        stages = []
        for row, numbers in self.at_row.items():
            for number in numbers:
                step = self.steps[number]
                if isinstance(step, ListStep):
                    after = step.after
                    stages.append(
                        Stage(row, self._number(after.body), self._ident(after.owner), made_by.get(number, 0))
                    )
        classes, variants = self._classes()
        matrix = VariedMatrix(
            self.tree.folders, classes, self.lists, self.idents, principals, terms=self.terms, stages=stages
        )
        flagged = PeopleFlags(Everyone(matrix), names, dtype=np.int16)
        files = np.arange(classes.rows)
        of_folders = flagged.flags(np.arange(self.tree.folders.rows))
        of_files = flagged.file_flags(files) if len(files) else np.zeros((0, len(names)), np.int16)
        for part, begin in zip(parts, begins, strict=True):
            columns = slice(begin, begin + len(part.sets))
            self._of_folders(part, of_folders[:, columns])
            self._of_files(part, of_files[:, columns], variants)

    def _ranks(self, person: str) -> dict[int, int]:
        """Return which bit, after those of their own steps, each other step stands for in a person's cells."""
        found: dict[int, int] = {}
        paths = self._paths_of(person)
        for row, numbers in self.at_row.items():
            above = len(paths[self._parents[row]]) if row else 0
            for place, number in enumerate(self._theirs(numbers, person)):
                found[number] = above + place
        for place, numbers in self.at_files.items():
            above = len(paths[int(self.tree.classes["folder"][place])])
            for more, number in enumerate(self._theirs(numbers, person)):
                found[number] = above + more
        return found

    def _paths_of(self, person: str) -> list[tuple[int, ...]]:
        """Return the steps on each folder and those above it on which a person's cells hang, from the top."""
        if person not in self._paths:
            theirs = {row: tuple(self._theirs(numbers, person)) for row, numbers in self.at_row.items()}
            found = [theirs.get(0, ())]
            for row, parent in enumerate(self._parents[1:], start=1):
                above, here = found[parent], theirs.get(row)
                found.append(above + here if here else above)
            # One person at a time is worked on.
            self._paths = {person: found}
        return self._paths[person]

    def _classes(self) -> tuple[Table, dict[int, list[tuple[int, int]]]]:
        """Return the files by sort with what steps make of them; and of each row its steps, with the rows after."""
        classes = self.tree.classes
        columns = {name: list(classes[name].tolist()) for name in ("folder", "list", "owner")}
        variants: dict[int, list[tuple[int, int]]] = {}
        for place, numbers in self.at_files.items():
            for number in numbers:
                step = self.steps[number]
                assert isinstance(step, FilesStep)
                variants.setdefault(place, []).append((number, len(columns["folder"])))
                columns["folder"].append(columns["folder"][place])
                columns["list"].append(self._number(step.after.body))
                columns["owner"].append(self._ident(step.after.owner))
        found = {name: np.array(values, dtype=np.int64) for name, values in columns.items()}
        return Table({**found}, len(columns["folder"])), variants

    def _of_folders(self, part: _Part, flags: Ints) -> None:
        """Add the hinges of a person's folders; `flags` has a column for each set of steps."""
        all_paths = self._paths_of(part.person)
        paths = {row: all_paths[row] for row in part.rows.tolist()}
        for length, rows in _by_length(paths).items():
            cells = flags[rows]
            for at, row in enumerate(rows):
                for number in self._folders_made:
                    if row in self._folders_made[number] and number in paths[row]:
                        # While it is not there nobody has anything on it.
                        step = self.steps[number]
                        assert isinstance(step, FolderStep)
                        made = part.made(len(part.own) + paths[row].index(number))
                        cells[at, made != step.made] = 0
            self._add(part, length, cells, [(row, False, paths[row]) for row in rows])

    def _of_files(self, part: _Part, flags: Ints, variants: Mapping[int, Sequence[tuple[int, int]]]) -> None:
        """Add the hinges of the files in them."""
        classes = self.tree.classes
        is_theirs = np.zeros(self.tree.folders.rows, dtype=bool)
        is_theirs[part.rows] = True
        paths, all_paths, folder = {}, self._paths_of(part.person), classes["folder"].tolist()
        for place in np.flatnonzero(is_theirs[classes["folder"]]).tolist() if classes.rows else ():
            paths[place] = all_paths[folder[place]]
            if place in self.at_files:
                paths[place] += tuple(self._theirs(self.at_files[place], part.person))
        for length, places in _by_length(paths).items():
            cells = flags[places]
            for at, place in enumerate(places):
                for number, row in variants.get(place, ()):
                    if number in paths[place]:
                        made = part.made(len(part.own) + paths[place].index(number))
                        cells[at, made] = flags[row, made]
            self._add(part, length, cells, [(folder[one], True, paths[one]) for one in places])

    def _add(
        self, part: _Part, length: int, cells: Ints, places: Sequence[tuple[int, bool, tuple[int, ...]]]
    ) -> None:
        """Add the hinges of cells, a row each, that hang on so many steps beside the person's own; a column a set."""
        count = len(part.own) + length
        cells = cells[:, : count + 1 if part.is_chain else 1 << count]
        if part.is_chain:
            for path in {path for _, _, path in places}:
                for before, after in pairwise((*part.own, *path)):
                    self.found.needs.setdefault(after, set()).add(before)
        start, end = cells[:, :1], cells[:, -1:]
        extra, missing = cells & ~(start | end), start & end & ~cells
        some = np.flatnonzero((extra | missing).any(axis=1))
        both = np.concatenate([extra[some], missing[some]], axis=1)
        alike: dict[tuple[tuple[int, ...], bytes], list[int]] = {}
        for at, values in zip(some.tolist(), both, strict=True):
            row, is_files, path = places[at]
            number = int(self.tree.number[row])
            alike.setdefault((path, values.tobytes()), []).append(len(self.found.cells))
            self.found.cells.append(Cell(part.person, int(self.tree.rows[row]), is_files, number))
        for (path, values), same in alike.items():
            harm = np.frombuffer(values, dtype=both.dtype).reshape(2, -1)
            self.found.hinges.append(_hinge(part, (*part.own, *path), harm, same))


def _by_length(paths: Mapping[int, tuple[int, ...]]) -> dict[int, list[int]]:
    found: dict[int, list[int]] = {}
    for place, path in paths.items():
        found.setdefault(len(path), []).append(place)
    return found


def _hinge(part: _Part, steps: tuple[int, ...], harm: Ints, places: Sequence[int]) -> Hinge:
    """Return a hinge without the steps that make no difference to it; `harm` is too many and too few by set."""
    kept = list(range(len(steps)))
    if not part.is_chain:
        halves = (harm.reshape(2, -1, 2, 1 << bit) for bit in kept)
        kept = [bit for bit, each in enumerate(halves) if not np.array_equal(each[:, :, 0], each[:, :, 1])]
    harms = {}
    for at in np.flatnonzero(harm[0] | harm[1]).tolist():
        made = part.sets[at]
        less = made if part.is_chain else sum((made >> bit & 1) << place for place, bit in enumerate(kept))
        harms[less] = int(harm[0, at]), int(harm[1, at])
    return Hinge(tuple(steps[bit] for bit in kept), harms, places, part.is_chain)
