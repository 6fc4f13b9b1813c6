"""The steps of a worklist in an order that harms nobody: whose rights hang on which step, asked of the systems."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import dataclass, replace
from functools import cached_property
from itertools import chain, islice

import numpy as np

from neatledger.core.access.everyone import FLAG_RIGHTS, Everyone, flag_rights
from neatledger.core.access.people_flags import PeopleFlags
from neatledger.core.lists.doubt import judge_all
from neatledger.core.lists.holders import Crowd, Holder
from neatledger.core.lists.rights import Right, spell_rights
from neatledger.core.lists.table import MODELS
from neatledger.core.people.principals import Principal
from neatledger.core.steps.accounts import AccountStep, ServiceStep, WholeAccountStep
from neatledger.core.steps.contract import FileSort, ItemState, Step
from neatledger.core.steps.folders import FolderStep
from neatledger.core.steps.limits import LimitStep
from neatledger.core.steps.lists import FilesStep, ListStep
from neatledger.core.steps.order import Cells, Direction, Placed, Scope, arrange, is_harmless
from neatledger.core.survey.accounts import AccountState
from neatledger.core.tree.address import Address, parts_of
from neatledger.core.tree.order import TreeOrder
from neatledger.core.tree.table import folder_paths
from neatledger.errors import StepError
from neatledger.ledger.imagined import begin_imagining
from neatledger.questions.beside import changes_between, lies_over
from neatledger.questions.imagined import imagined_office
from neatledger.questions.office import Office

__all__ = ["Order", "OrderedStep"]

_Side = tuple[str, bytes]  # an owner and the body of a list
_SMALL = 20_000  # folders of a tree of which no part need be cut out


@dataclass(frozen=True, slots=True)
class OrderedStep:
    """A step in its place; `harm` says whom it harms for a while, `group` the numbers of all that it hangs with."""

    step: Step
    harm: str = ""
    number: int = 0
    group: tuple[int, ...] = ()


class Order:
    """Steps in an order that harms nobody, or says whom; raises `StepError` where one does not fit."""

    def __init__(self, office: Office, steps: Sequence[Step]) -> None:
        self._asker = _Asker(office, steps)
        placed = arrange(self._asker.scopes, self._asker.prober)
        self._tried = {one.members for one in placed if one.is_tried}
        self.steps = [
            OrderedStep(steps[one.number], self._asker.word(one), one.number, one.members) for one in placed
        ]

    @property
    def then(self) -> Office:
        """The office as it would be after all steps."""
        return self._asker.then

    def concerns(self, number: int, person: str) -> bool:
        """Tell whether a person's rights may hang on a step."""
        return person in self._asker.scopes[number].people

    def may_leave_out(self, one: OrderedStep, made: Sequence[int]) -> bool:
        """Tell whether a step harms nobody when of those that it hangs with only some were made before it."""
        if one.group not in self._tried:
            # They only take away, or only give: what some of them do lies between.
            return len(one.group) == 1 or not self._asker.is_fixed(one.group)
        return is_harmless(self._asker.probed(one.group), one.group, (*made, one.number))


class _Asker:
    """Says what rights hang on each step, and tries orders out."""

    def __init__(self, office: Office, steps: Sequence[Step]) -> None:
        self._office, self._steps = office, steps
        self._cells: dict[tuple[int, ...], _Probed] = {}
        self._orders: dict[str, TreeOrder] = {}

    @cached_property
    def then(self) -> Office:
        """The office as it would be after all steps."""
        return imagined_office(self._office, self._steps)

    @cached_property
    def _variants(self) -> dict[str, list[tuple[str, list[Holder]]]]:
        """Return of every system each person's holders as they are before all steps and after."""
        found: dict[str, dict[str, set[Holder]]] = {}
        for side in (self._office, self.then):
            for system, principals in side.systems.holders.items():
                for one in principals:
                    found.setdefault(system, {}).setdefault(one.person, set()).add(one.holder)
        return {system: [(person, list(some)) for person, some in mine.items()] for system, mine in found.items()}

    @cached_property
    def scopes(self) -> list[Scope]:
        """What hangs on each step."""
        return [replace(self._scope(step), cluster=self._cluster(step.system)) for step in self._steps]

    def _cluster(self, system: str) -> str:
        """Return by what a system is known together with those whose rights it decides about."""
        over = [name for name in self._office.readers if lies_over(self._office, name, [system])]
        under = [name for name in self._office.readers if lies_over(self._office, system, [name])]
        return min([system, *over, *under]) if over or under else ""

    def _scope(self, step: Step) -> Scope:
        match step:
            case ListStep():
                sides = _side(step.before), _side(step.after)
                people, direction = self._judged(step.system, step.model, *sides, is_folder=True)
                return Scope(step.system, people, (step.path,), direction)
            case FilesStep():
                sides = _side(step.before), _side(step.after)
                people, direction = self._judged(step.system, step.model, *sides, is_folder=False)
                return Scope(step.system, people, (step.path,), direction)
            case FolderStep():
                # Before it is made nobody has anything on it.
                people, _ = self._judged(step.system, step.model, None, _side(step.item), is_folder=True)
                direction = Direction.RAISES if step.made else Direction.LOWERS
                return Scope(step.system, people, (step.path,), direction, is_fixed=True)
            case LimitStep():
                return Scope(step.system, frozenset(), (b"/",), Direction.NOTHING)
            case AccountStep() | ServiceStep() | WholeAccountStep():
                return Scope(step.system, self._people_of(step), (b"/",), _account_direction(step))
            case _:
                return self._tried(step)

    def _people_of(self, step: AccountStep | ServiceStep | WholeAccountStep) -> frozenset[str]:
        both = [*self._office.systems.holders[step.system], *self.then.systems.holders[step.system]]
        return frozenset(one.person for one in both if one.account.login == step.target)

    @cached_property
    def _crowds(self) -> dict[str, tuple[list[str], Crowd]]:
        """Return of every system all holders at once, and whose each is."""
        found = {}
        for system, mine in self._variants.items():
            pairs = [(person, holder) for person, holders in mine for holder in holders]
            found[system] = [person for person, _ in pairs], Crowd([holder for _, holder in pairs])
        return found

    def _judged(
        self, system: str, model: str, before: _Side | None, after: _Side, *, is_folder: bool
    ) -> tuple[frozenset[str], Direction]:
        """Return to whom two lists give different things, as whoever they are before or after all steps.

        Without a list before, all that the other one gives.
        """
        if system not in self._crowds:
            return frozenset(), Direction.NOTHING
        people, crowd = self._crowds[system]
        old, new = ({} if one is None else _given(model, *one, crowd, is_folder) for one in (before, after))
        changed, direction = 0, Direction.NOTHING
        for right in old.keys() | new.keys():
            had, has = old.get(right, 0), new.get(right, 0)
            if right is Right.UNSURE:
                changed |= had | has
                direction |= Direction.BOTH if had | has else Direction.NOTHING
                continue
            changed |= had ^ has
            direction |= Direction.RAISES if has & ~had else Direction.NOTHING
            direction |= Direction.LOWERS if had & ~has else Direction.NOTHING
        found = frozenset(people[place] for place in range(changed.bit_length()) if changed >> place & 1)
        return found, direction

    def _tried(self, step: Step) -> Scope:
        """Return the scope of a step of which only trying it tells whom it concerns: all on that system, at worst."""
        people = frozenset(person for person, _ in self._variants.get(step.system, ()))
        try:
            changes = changes_between(self._office, imagined_office(self._office, [step]))
        except StepError:
            return Scope(step.system, people, (b"/",), Direction.BOTH)
        if step.kind == "member":
            people = self._moved(step) or people
        direction = Direction.NOTHING
        for one in changes:
            direction |= Direction.RAISES if one.change.gains else Direction.NOTHING
            direction |= Direction.LOWERS if one.change.loses else Direction.NOTHING
        if step.kind == "member":
            # A refusal, or an entry that decides alone, turns round what a membership does after other steps.
            direction = Direction.BOTH
        return Scope(step.system, people, (b"/",), direction)

    def _moved(self, step: Step) -> frozenset[str]:
        alone = imagined_office(self._office, [step]).systems.holders[step.system]
        known = {one.account.login: one.holder for one in self._office.systems.holders[step.system]}
        return frozenset(one.person for one in alone if known.get(one.account.login) != one.holder)

    # Trying orders out ------------------------------------------------------------------------------

    def prober(self, group: Sequence[int]) -> _Probed:
        """Return what tells the rights of those concerned by some steps."""
        scopes = [self.scopes[number] for number in group]
        made = [step for step in (self._steps[number] for number in group) if isinstance(step, FolderStep)]
        found = _Probed(self._office, self._steps, scopes, self._orders, made)
        self._cells[tuple(sorted(group))] = found
        return found

    def probed(self, group: Sequence[int]) -> _Probed:
        """Return what was asked when an order of a group was tried out."""
        return self._cells[tuple(sorted(group))]

    def is_fixed(self, group: Sequence[int]) -> bool:
        """Tell whether steps of a group make what others speak of."""
        return any(isinstance(self._steps[number], FolderStep) for number in group)

    def word(self, placed: Placed) -> str:
        """Say whom a step harms for a while."""
        if placed.harm is None:
            return ""
        probed = self.probed(placed.members)
        parts = [probed.word(placed.harm.extra, "has"), probed.word(placed.harm.missing, "lacks")]
        return "; ".join(part for part in parts if part)


def _side(one: ItemState | FileSort) -> _Side:
    return one.owner, one.body


def _given(model: str, owner: str, body: bytes, crowd: Crowd, is_folder: bool) -> dict[Right, int]:
    """Return by right to whom a list gives it, its owner among them."""
    others, owners = judge_all(MODELS[model].parse(body), crowd, is_folder=is_folder)
    mine = crowd.by_user.get(owner, 0)
    mine |= crowd.by_group.get(owner, 0) if MODELS[model].groups_may_own else 0
    return {
        right: (owners.get(right, 0) & mine) | (others.get(right, 0) & ~mine)
        for right in others.keys() | owners.keys()
    }


def _account_direction(step: AccountStep | ServiceStep | WholeAccountStep) -> Direction:
    match step:
        case AccountStep():
            return Direction.RAISES if step.after is AccountState.OPEN else Direction.LOWERS
        case ServiceStep():
            return Direction.RAISES if step.after else Direction.LOWERS
        case WholeAccountStep():
            return Direction.RAISES if step.before is None else Direction.LOWERS


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


class _Probed:
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
        rights = flag_rights(flags & (1 << len(FLAG_RIGHTS)) - 1)
        if place.is_files and rights & Right.ADD:
            rights = rights & ~Right.ADD | Right.CHANGE
        what = spell_rights(rights) if rights else "perhaps more than is known"
        where = f"files in {place.address}" if place.is_files else str(place.address)
        more = f" (and {len(cells) - 1} more)" if len(cells) > 1 else ""
        return f"for a while {place.person} {verb} {what} on {where}{more}"
