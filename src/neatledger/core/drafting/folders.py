"""Folders that matter, with the grants that say what was found there; and what looks like a slip."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from neatledger.core.access.bits import Bits
from neatledger.core.access.everyone import Everyone
from neatledger.core.drafting.grants import GrantDrafter, level_said
from neatledger.core.lists.rights import LEVEL_RIGHTS, Level, Right, spell_rights
from neatledger.core.tree.address import Address
from neatledger.core.tree.table import folder_paths

__all__ = ["DraftFolder", "FolderDraft", "Question", "draft_folders", "rights_that_differ"]

Ints = NDArray[np.int64]
_TOLD = (Right.LIST, Right.READ, Right.ADD, Right.MANAGE)
_CHUNK = 16_384


@dataclass(frozen=True, slots=True)
class DraftFolder:
    """One folder of the plan: who holds which level there, and whether it inherits from above."""

    address: Address
    grants: Mapping[str, Level]
    closed: bool


@dataclass(frozen=True, slots=True)
class Question:
    """Something that a draft does not take over, and why."""

    place: Address | str
    text: str


@dataclass
class FolderDraft:
    """What a system's folders come to."""

    folders: list[DraftFolder] = field(default_factory=list)
    questions: list[Question] = field(default_factory=list)


Vector = tuple[Right, ...]


def draft_folders(
    system: str,
    everyone: Everyone,
    people: Mapping[str, Sequence[int]],
    groups: Mapping[str, frozenset[str]],
    hints_of: Callable[[int], Sequence[str]],
    aside: Iterable[Sequence[bytes]],
) -> FolderDraft:
    """Return the folders of a system that a plan would name, the upper ones first.

    Arguments: everyone's rights; people with the numbers of their principals; groups with the people in them; what
    gives the names that a folder's own list names; and folders that are left aside with all below them (homes).
    """
    return _Drafting(system, everyone, people, groups, hints_of).draft(aside)


def rights_that_differ(
    system: str, everyone: Everyone, people: Mapping[str, Sequence[int]], aside: Iterable[Sequence[bytes]]
) -> dict[Address, Vector]:
    """Return what people have, in their order, where anybody's rights are not those above, in reading order."""
    return _Drafting(system, everyone, people, {}, lambda _: ()).differing(aside)


class _Drafting:
    def __init__(
        self,
        system: str,
        everyone: Everyone,
        people: Mapping[str, Sequence[int]],
        groups: Mapping[str, frozenset[str]],
        hints_of: Callable[[int], Sequence[str]],
    ) -> None:
        self._system, self._everyone = system, everyone
        self._people, self._hints_of = people, hints_of
        self._drafter = GrantDrafter(list(people), groups)
        matrix = everyone.matrix
        # Where the owner of each folder manages it anyhow, that is no plan.
        self._told = tuple(one for one in _TOLD if one is not Right.MANAGE or not matrix.model.has_defaults)
        self._rights_of = [
            Right(sum(right for place, right in enumerate(self._told) if code >> place & 1))
            for code in range(1 << len(self._told))
        ]
        self._drafted: dict[tuple[object, ...], dict[str, Level]] = {}
        self._folders, self._order = matrix.folders, matrix.order
        self._parent = matrix.folders["parent"].astype(np.int64)
        self._said: dict[int, Vector] = {}
        self._found = FolderDraft()
        self._path_of = folder_paths(matrix.folders)

    def draft(self, aside: Iterable[Sequence[bytes]]) -> FolderDraft:
        """Go through the folders where anybody's rights are not those on the folder above."""
        rows = self._differing(aside)
        vectors = self._vectors([*rows, *(max(int(self._parent[row]), 0) for row in rows)])
        for row in rows:
            self._one(row, vectors[row], vectors[max(int(self._parent[row]), 0)])
        return self._found

    def differing(self, aside: Iterable[Sequence[bytes]]) -> dict[Address, Vector]:
        """Return what people have, in their order, where anybody's rights differ from those above."""
        rows = self._differing(aside)
        vectors = self._vectors(rows)
        return {Address(self._system, self._path_of(row)): vectors[row] for row in rows}

    def _differing(self, aside: Iterable[Sequence[bytes]]) -> list[int]:
        """Return the folders whose rights differ from those above, in reading order, but for those left aside."""
        total = self._folders.rows
        marks = np.zeros(total, dtype=bool)
        marks[0] = True
        for start in range(0, total, _CHUNK):
            rows = np.arange(start, min(start + _CHUNK, total))
            mine, above = self._rights(rows), self._rights(np.maximum(self._parent[rows], 0))
            for right in self._told:
                if right in mine:
                    marks[rows] |= (mine[right] != above[right]).any(axis=1)
        order = self._order.order
        found: list[int] = order[(marks & ~self._order.mark_below(aside))[order]].tolist()
        return found

    def _rights(self, rows: Ints) -> dict[Right, Bits]:
        # The ways of administrators are left out, as where the plan is compared.
        return self._everyone.matrix.block(rows).rights

    def _vectors(self, rows: Sequence[int]) -> dict[int, Vector]:
        found: dict[int, Vector] = {}
        known: dict[bytes, Vector] = {}
        wanted = np.array(sorted(set(rows)), dtype=np.int64)
        for start in range(0, len(wanted), _CHUNK):
            chunk = wanted[start : start + _CHUNK]
            codes = self._codes(self._rights(chunk))
            for at, row in enumerate(chunk.tolist()):
                key = codes[at].tobytes()
                if key not in known:
                    known[key] = tuple(self._rights_of[code] for code in codes[at].tolist())
                found[row] = known[key]
        return found

    def _codes(self, rights: Mapping[Right, Bits]) -> NDArray[np.uint8]:
        """Return folders × people, a bit for each right that is told."""
        depth = max(len(numbers) for numbers in self._people.values())
        # Of each person the principals, one after the other; the first again where there are no more.
        columns = [
            np.array([numbers[n] if n < len(numbers) else numbers[0] for numbers in self._people.values()])
            for n in range(depth)
        ]
        size = len(next(iter(rights.values())))
        found = np.zeros((size, len(self._people)), dtype=np.uint8)
        for place, right in enumerate(self._told):
            if right not in rights:
                continue
            for column in columns:
                picked = rights[right][:, column >> 6] >> (column & 63).astype(np.uint64) & np.uint64(1)
                found |= picked.astype(np.uint8) << place
        return found

    def _above(self, row: int) -> Vector | None:
        """Return what the draft says above a folder; None where it says nothing there."""
        while row > 0:
            row = int(self._parent[row])
            if row in self._said:
                return self._said[row]
        return None

    def _one(self, row: int, here: Vector, parent: Vector) -> None:
        said = self._above(row)
        # Without a word above, what everybody has further up need not be said again.
        if here == said or (said is None and (row == 0 or here == parent or not any(here))):
            return
        address = Address(self._system, self._path_of(row))
        names = list(self._people)
        changed = [n for n in range(len(names)) if here[n] != (parent if said is None else said)[n]]
        if said is not None and len(changed) == 1 and len(names) > 2:
            self._ask_about(address, names[changed[0]], said[changed[0]], here[changed[0]])
            return
        levels: dict[str, Level] = {}
        for name, rights in zip(names, here, strict=True):
            level = level_said(rights)
            if level is None:
                text = f"{name} has {spell_rights(rights)}: no level says that"
                self._found.questions.append(Question(address, text))
                level = _at_most(rights)
            levels[name] = level
        above = said if said is not None else parent
        closed = any(more & ~has for more, has in zip(above, here, strict=True))
        has = tuple(levels.values())
        if said is not None and not closed:
            levels = {
                name: level if here[n] != said[n] else Level.NONE for n, (name, level) in enumerate(levels.items())
            }
        hints = self._hints_of(row)
        # Folders alike are many: what was worked out for one holds for all.
        key = tuple(levels.values()), tuple(hints), has
        if key not in self._drafted:
            self._drafted[key] = self._drafter.draft(key[0], hints, has)
        grants = self._drafted[key]
        if everyone_writes(grants):
            self._found.questions.append(Question(address, "should everyone add files?"))
            return
        self._said[row] = here
        self._found.folders.append(DraftFolder(address, grants, closed))

    def _ask_about(self, address: Address, person: str, usual: Right, has: Right) -> None:
        more, less = has & ~usual, usual & ~has
        text = f"{person} lacks {spell_rights(less)}"
        if more:
            text = f"{person} has {spell_rights(more)} more than in the folders around"
        self._found.questions.append(Question(address, f"{text}; is that meant?"))


def _at_most(rights: Right) -> Level:
    """Return the greatest level that gives nothing beyond some rights."""
    fitting = [one for one in (Level.LIST, Level.READ) if not LEVEL_RIGHTS[one] & ~Right.ENTER & ~rights]
    return fitting[-1] if fitting else Level.NONE


def everyone_writes(grants: Mapping[str, Level]) -> bool:
    """Tell whether grants let everybody add."""
    return grants.get("everyone") in (Level.ADD_ONLY, Level.WRITE, Level.MANAGE)
