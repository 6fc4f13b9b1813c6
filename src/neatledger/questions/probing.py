"""Orders of steps tried out on whole offices, for kinds of steps and systems of which no hinges are told."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import dataclass
from itertools import chain, islice

import numpy as np

from neatledger.core.access.everyone import FLAG_RIGHTS, Everyone, flag_rights
from neatledger.core.access.people_flags import PeopleFlags
from neatledger.core.lists.rights import Right, spell_rights
from neatledger.core.people.principals import Principal
from neatledger.core.steps.contract import Step
from neatledger.core.steps.folders import FolderStep
from neatledger.core.steps.order import Cells, Scope
from neatledger.core.tree.address import Address, parts_of
from neatledger.core.tree.order import TreeOrder
from neatledger.core.tree.table import folder_paths
from neatledger.errors import StepError
from neatledger.ledger.imagined import begin_imagining
from neatledger.questions.beside import lies_over
from neatledger.questions.imagined import imagined_office
from neatledger.questions.office import Office

__all__ = ["Probed", "for_a_while"]

_SMALL = 20_000  # folders of a tree of which no part need be cut out


@dataclass(frozen=True, slots=True)
class _Place:
    """Whose rights a cell tells, and on what: a folder, or files of one sort right in it."""

    person: str
    address: Address
    is_files: bool = False


@dataclass(frozen=True, slots=True)
class _Part:
    """Which cells are a system's: a person each on every folder, then on every sort of files."""

    system: str
    people: Sequence[str]
    folders: Callable[[], Iterable[bytes]]
    folders_of_files: Callable[[], Iterable[bytes]]

    def places(self) -> Iterator[_Place]:
        """Yield what each cell is about; only one that is told of is ever looked for."""
        for path in self.folders():
            yield from (_Place(person, Address(self.system, path)) for person in self.people)
        for path in self.folders_of_files():
            yield from (_Place(person, Address(self.system, path), is_files=True) for person in self.people)


class Probed:
    """The rights of some people on some folders after some steps, system by system."""

    def __init__(
        self,
        office: Office,
        steps: Sequence[Step],
        scopes: Iterable[Scope],
        orders: dict[str, TreeOrder],
        made: Sequence[FolderStep],
    ) -> None:
        self._office, self._steps, self._orders, self._made = office, steps, orders, made
        some = list(scopes)
        self._people: dict[str, list[str]] = {}
        self._tops: dict[str, list[bytes]] = {}
        for scope in some:
            self._people[scope.system] = sorted({*self._people.get(scope.system, ()), *scope.people})
            self._tops.setdefault(scope.system, []).extend(scope.tops)
        for name in office.readers:
            if name not in self._people and lies_over(office, name, list(self._people)):
                self._people[name] = sorted({person for scope in some for person in scope.people})
                self._tops[name] = [b"/"]
        self._parts: list[_Part] = []
        self._known: dict[tuple[int, ...], Cells | None] = {}
        self._base = self._cut()
        self._paths = {step.system: self._paths_of(step.system) for step in made}

    def _paths_of(self, system: str) -> list[bytes]:
        """Return the folders that are asked about where steps make some, and take some away: all that ever are."""
        folders = self._base.readers[system].table("folders")
        marks = TreeOrder(folders).mark_below(map(parts_of, self._tops[system]))
        path_of = folder_paths(folders)
        found = [path_of(row) for row in np.flatnonzero(marks).tolist()]
        return list(dict.fromkeys([*found, *(step.path for step in self._made if step.system == system)]))

    def _cut(self) -> Office:
        """Return the office with the folders alone that are asked about: of a large tree that is little."""
        imagined = dict(self._office.imagined)
        for system, tops in self._tops.items():
            reader = self._office.readers[system]
            if b"/" in tops or reader.table("folders").rows < _SMALL:
                continue
            order = self._orders.setdefault(system, TreeOrder(reader.table("folders")))
            parts = [parts_of(top) for top in tops]
            marks = order.mark_below(parts)
            for row in map(order.find_row, parts):
                while row:
                    row = int(order.parent[row])
                    marks[row] = True
            marks[0] = True
            whole = begin_imagining(self._office.readers, self._office.imagined, system)
            imagined[system] = whole.cut(np.flatnonzero(marks))
        return self._office.with_(imagined=imagined)

    def cells(self, made: Sequence[int]) -> Cells | None:
        """Return the flags of every person on every folder and every sort of files, systems one after the other."""
        key = tuple(made)
        if key not in self._known:
            try:
                then = imagined_office(self._base, [self._steps[number] for number in made])
            except StepError:
                self._known[key] = None
            else:
                self._parts = []
                parts = [self._of_system(then, system) for system in self._people]
                self._known[key] = np.concatenate(parts) if parts else np.zeros(0, dtype=np.int64)
        return self._known[key]

    def _of_system(self, then: Office, system: str) -> Cells:
        people = self._people[system]
        wanted = set(people)
        principals: list[Principal] = [one for one in then.systems.holders[system] if one.person in wanted]
        everyone = then.systems.everyone(system, principals, is_narrow=True)
        rows = self._rows(system, everyone)
        flagged = PeopleFlags(everyone, people)
        flags = flagged.flags(rows)
        path_of = folder_paths(everyone.matrix.folders)
        # Two files of a folder may change places: one that is read, and one that is not. Each sort counts by itself.
        classes = everyone.matrix.classes
        chosen = np.flatnonzero(np.isin(classes["folder"], rows))
        owners = classes["folder"][chosen]
        if len(chosen):
            flags = np.concatenate([flags, flagged.file_flags(chosen)])
        known = self._paths.get(system)
        self._parts.append(
            _Part(
                system,
                people,
                lambda: map(path_of, rows.tolist()) if known is None else known,
                lambda: map(path_of, owners.tolist()),
            )
        )
        return flags.reshape(-1)

    def _rows(self, system: str, everyone: Everyone) -> Cells:
        """Return the rows of the folders that are asked about, below 0 for one that is not there."""
        if system in self._paths:
            found = (everyone.matrix.find_row(parts_of(path)) for path in self._paths[system])
            return np.array([-1 if row is None else row for row in found], dtype=np.int64)
        return np.flatnonzero(everyone.matrix.order.mark_below(map(parts_of, self._tops[system])))

    def word(self, cells: Sequence[tuple[int, int]], verb: str) -> str:
        """Say who has or lacks what for a while, the first of them."""
        if not cells:
            return ""
        number, flags = cells[0]
        place = next(islice(chain.from_iterable(part.places() for part in self._parts), number, None))
        return for_a_while(place.person, verb, flags, str(place.address), place.is_files, len(cells) - 1)


def for_a_while(person: str, verb: str, flags: int, where: str, is_files: bool, more: int) -> str:
    """Say what somebody has or lacks on the way of a change, and on how many folders beside."""
    rights = flag_rights(flags & (1 << len(FLAG_RIGHTS)) - 1)
    if is_files and rights & Right.ADD:
        rights = rights & ~Right.ADD | Right.CHANGE
    what = spell_rights(rights) if rights else "perhaps more than is known"
    others = f" (and {more} more)" if more else ""
    return f"for a while {person} {verb} {what} on {'files in ' if is_files else ''}{where}{others}"
