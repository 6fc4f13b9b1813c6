"""Team folders over shares: which folder lies beneath which, and what the shares let through there."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from neatledger.core.access.bits import Bits, RowIndex
from neatledger.core.access.everyone import Everyone
from neatledger.core.access.matrix import Matrix
from neatledger.core.lists.rights import Right
from neatledger.core.survey.shared import TeamFolder
from neatledger.core.tree.address import parts_of
from neatledger.core.tree.columns import SeenState
from neatledger.core.tree.table import Table

__all__ = ["BackingShares", "BackingSystem"]

_ASKED = (Right.ENTER, Right.LIST, Right.READ, Right.ADD, Right.DELETE, Right.MANAGE)


@dataclass(frozen=True)
class BackingSystem:
    """The system beneath a team folder.

    One matrix for the first account that people have there, one for the second, and so on; the principals are in the
    order of the service's.
    """

    matrices: tuple[Matrix, ...]


class BackingShares:
    """What lies beneath the folders of a service.

    Arguments: the service's matrix; by folder the number of its team folder (from 1); the team folders and the rows
    that they begin with; the systems beneath by name. `over` numbers the team folder by folder where it lies over a
    share, and `found` has the row of the folder there, −1 where none was found.
    """

    def __init__(
        self,
        matrix: Matrix,
        number: RowIndex,
        teams: Sequence[TeamFolder],
        tops: Mapping[bytes, int | None],
        under: Mapping[str, BackingSystem],
    ) -> None:
        self._under = under
        self._teams = teams
        self._words = matrix.words
        self._unpacked: dict[int, list[bytes]] = {}
        self.found = np.full(matrix.folders.rows, -1, dtype=np.int64)
        self.over = np.zeros(matrix.folders.rows, dtype=np.int32)
        for place, team in enumerate(teams, start=1):
            if team.over is None:
                continue
            mine = number == place
            self.over[mine] = place
            # All matrices of a system have the same folders: the first stands for them in all but rights.
            theirs = under[team.over.system].matrices[0] if team.over.system in under else None
            start = None if theirs is None else theirs.find_row(parts_of(team.over.path))
            top = tops[team.path]
            if theirs is not None and start is not None and top is not None:
                self._match_below(top, start, matrix.folders, theirs.folders, mine)

    def _names(self, folders: Table) -> list[bytes]:
        """Return all names at once, unpacked."""
        if id(folders) not in self._unpacked:
            self._unpacked[id(folders)] = list(folders.texts("name"))
        return self._unpacked[id(folders)]

    def _match_below(self, top: int, start: int, mine: Table, theirs: Table, within: NDArray[np.bool_]) -> None:
        """Find the folders below one folder, by their names, below another of the system beneath."""
        names, their_names = self._names(mine), self._names(theirs)
        first, count = mine["first_child"].tolist(), mine["children"].tolist()
        their_first, their_count = theirs["first_child"].tolist(), theirs["children"].tolist()
        self.found[top] = start
        waiting = [(top, start)]
        while waiting:
            row, other = waiting.pop()
            begin = their_first[other]
            known = {their_names[child]: child for child in range(begin, begin + their_count[other])}
            for child in range(first[row], first[row] + count[row]):
                match = known.get(names[child])
                # A folder only one side has, or one of another team folder, is beneath nothing here.
                if match is not None and within[child]:
                    self.found[child] = match
                    waiting.append((child, match))

    def _places(self) -> Iterator[tuple[int, BackingSystem | None]]:
        for place, team in enumerate(self._teams, start=1):
            if team.over is not None:
                yield place, self._under.get(team.over.system)

    def with_states(self, folders: Table) -> Table:
        """Return the folders, those over a share marked by whether anybody saw what lies in the folder there."""
        if not self.over.any():
            return folders
        state = folders["state"].copy()
        is_over = (self.over > 0) & (state != SeenState.LIST_UNKNOWN)
        unseen = self.found < 0
        for place, under in self._places():
            here = np.flatnonzero((self.over == place) & (self.found >= 0))
            if under is not None and len(here):
                unseen[here] = under.matrices[0].folders["state"][self.found[here]] != SeenState.WHOLE
        # What the service's own tree shows of them does not matter: their files are the share's.
        state[is_over] = np.where(unseen[is_over], SeenState.NOT_OPENED, SeenState.WHOLE)
        return folders.with_column("state", state)

    def with_classes(self, classes: Table) -> Table:
        """Return the classes of files, with those of the share where a folder lies over one."""
        if not self.over.any():
            return classes
        keep = self.over[classes["folder"]] == 0
        pieces = {name: [classes[name][keep]] for name in ("folder", "list", "owner", "files", "bytes")}
        for place, under in self._places():
            rows = np.flatnonzero((self.over == place) & (self.found >= 0))
            if under is None or not len(rows):
                continue
            theirs = under.matrices[0].classes
            rows = rows[np.argsort(self.found[rows], kind="stable")]
            # Every class beneath is looked up among the folders that show it; the last place stands for beyond the
            # end.
            where = np.minimum(np.searchsorted(self.found[rows], theirs["folder"]), len(rows) - 1)
            hit = self.found[rows][where] == theirs["folder"]
            pieces["folder"].append(rows[where[hit]])
            for name in ("list", "owner", "files", "bytes"):
                pieces[name].append(theirs[name][hit])
        whole = {name: np.concatenate(each) for name, each in pieces.items()}
        order = np.argsort(whole["folder"], kind="stable")
        return Table({name: each[order] for name, each in whole.items()}, len(order))

    def may_differ(self) -> NDArray[np.bool_]:
        """Mark the folders over a share on which it may let through other rights than on the one above."""
        marked = (self.over > 0) & (self.found < 0)
        for place, under in self._places():
            here = np.flatnonzero((self.over == place) & (self.found >= 0))
            if under is not None and len(here):
                marked[here] = Everyone(under.matrices[0]).may_differ[self.found[here]]
        return marked

    def cut(self, rows: RowIndex, team: Mapping[Right, Bits], roles: Bits) -> tuple[Bits, Bits]:
        """Cut what team folders give down to what the shares beneath let through.

        Return for whom that is unknown, and for whom it is nothing at all for certain.
        """
        unknown, closed = np.zeros_like(roles), np.zeros_like(roles)
        if not self.over[rows].any():
            return unknown, closed
        beneath = self.found[rows]
        missing = (self.over[rows] > 0) & (beneath < 0)
        unknown[missing] = roles[missing]
        for bits in team.values():
            bits[missing] = 0
        for place, under in self._places():
            here = np.flatnonzero((self.over[rows] == place) & (beneath >= 0))
            if under is None or not len(here):
                continue
            caps, unsure = self._caps(under, beneath[here])
            for right, bits in team.items():
                bits[here] &= caps[right]
            unknown[here] |= unsure & roles[here]
            closed[here] |= ~(caps[Right.SHARE] | unsure)
        return unknown, closed

    def _caps(self, under: BackingSystem, rows: RowIndex) -> tuple[dict[Right, Bits], Bits]:
        """Return what the shares let through (as `ways.cap_of_share` has it), and for whom that is unknown."""
        some = np.zeros((len(rows), self._words), dtype=np.uint64)
        unknown = some.copy()
        caps = {right: some.copy() for right in _ASKED}
        for matrix in under.matrices:
            block = matrix.block(rows)
            for right in _ASKED:
                caps[right] |= block.rights[right]
                some |= block.rights[right]
            unknown |= block.unknown
        caps |= {Right.VIEW: caps[Right.READ], Right.CHANGE: caps[Right.ADD], Right.CLEAR: caps[Right.ADD]}
        return caps | {Right.SHARE: some}, unknown

    def files(
        self, folder: RowIndex, lists: RowIndex, owner: RowIndex
    ) -> Iterator[tuple[RowIndex, dict[Right, Bits]]]:
        """Yield what the shares say of files beneath: which of the files asked for, and their bits."""
        for place, under in self._places():
            here = np.flatnonzero(self.over[folder] == place)
            if under is not None and len(here):
                for matrix in under.matrices:
                    yield here, matrix.file_bits(self.found[folder[here]], lists[here], owner[here])
