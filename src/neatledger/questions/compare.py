"""Two people, two groups, or one of them at two counts, beside each other: what only one has, and by what."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from datetime import date

import numpy as np
from numpy.typing import NDArray

from neatledger.core.access.beside import Apart, apart
from neatledger.core.access.comparing import PeopleFlags
from neatledger.core.access.ways import given_by
from neatledger.core.lists.contract import word_entry
from neatledger.core.lists.rights import Right
from neatledger.core.people.membership import outer_groups
from neatledger.core.people.principals import Principal, only_in
from neatledger.core.tree.address import Address
from neatledger.core.tree.table import Table, folder_paths
from neatledger.errors import UnknownNameError
from neatledger.ledger.locations import find_location
from neatledger.ledger.reader import SurveyReader
from neatledger.questions.office import Office, open_office

__all__ = ["Compared", "Difference", "Side", "ask", "ask_like"]

_MOST_EXPLAINED = 100


@dataclass(frozen=True)
class Side:
    """One of the two: what it is called in words and in a heading, and its principals and groups by system."""

    name: str
    label: str
    office: Office
    principals: dict[str, list[Principal]]
    groups: dict[str, frozenset[str]]


@dataclass(frozen=True, slots=True)
class Difference:
    """What the two have on a folder, and what gives whoever has more what they have: a way and an entry."""

    address: Address
    apart: Apart
    by: str


@dataclass(frozen=True)
class Compared:
    """Both sides with the groups that only one of them is in, and where they differ."""

    left: Side
    right: Side
    only_left: tuple[str, ...]
    only_right: tuple[str, ...]
    differences: Sequence[Difference]


def ask(office: Office, one: str, other: str, *, then: date | None = None) -> Compared:
    """Compare two people or groups, as the count has them; with `then` the other as a count of that day had it."""
    past = open_office(office.folder, as_of=then, today=office.today) if then else office
    left, right = _side(office, one), _side(past, other)
    if then:
        left = replace(left, name=f"{left.name} now", label="now")
        right = replace(right, name=f"{right.name} on {past.count.day}", label=f"{past.count.day}")
    found: list[Difference] = []
    for system in dict.fromkeys([*left.principals, *right.principals]):
        found += _of_system(system, left, right)
    mine, theirs = (
        {f"{system}:{name}" for system, some in side.groups.items() for name in some} for side in (left, right)
    )
    return Compared(left, right, tuple(sorted(mine - theirs)), tuple(sorted(theirs - mine)), found)


def ask_like(office: Office, name: str) -> Compared:
    """Compare a person with somebody new who is in all their groups, and has nothing of their own.

    On systems of lists; what team folders give by groups is not in it. Raises `UnknownNameError`.
    """
    like = _side(office, name)
    shared = [one for one in like.principals if office.systems.service(one) is not None]
    left = replace(like, principals={one: some for one, some in like.principals.items() if one not in shared})
    new: dict[str, list[Principal]] = {}
    for system, principals in left.principals.items():
        idents = frozenset(ident for one in principals for ident in one.holder.groups)
        new[system] = [only_in("somebody new", system, idents)]
    right = Side(f"somebody new like {like.name}", "new", office, new, left.groups)
    found = [one for system in left.principals for one in _of_system(system, left, right)]
    return Compared(left, right, (), (), found)


def _side(office: Office, name: str) -> Side:
    """Return a person by name, or a group as one account that is in it and in no other."""
    try:
        person = office.find_person(name)
    except UnknownNameError:
        side = _group(office, name)
        if side is None:
            raise
        return side
    groups = {}
    for system, principals in person.principals.items():
        names = {one.ident: one.name for one in office.readers[system].groups}
        groups[system] = frozenset(
            names[ident] for one in principals for ident in one.holder.groups if ident in names
        )
    return Side(person.id, person.id, office, dict(person.principals), groups)


def _group(office: Office, name: str) -> Side | None:
    folded = name.casefold()
    found: dict[str, list[Principal]] = {}
    groups: dict[str, frozenset[str]] = {}
    planned = next((one for key, one in office.plan.groups.items() if key.casefold() == folded), None)
    for system, reader in office.readers.items():
        called = {folded} | ({planned.names.get(system, planned.name).casefold()} if planned else set())
        group = next((one for one in reader.groups if one.name.casefold() in called), None)
        if group is None or office.systems.service(system) is not None:
            continue
        idents = {group.ident, *outer_groups(reader.groups, group.ident)} | reader.terms.model.everyone_has
        found[system] = [only_in(f"the group {group.name}", system, idents)]
        groups[system] = frozenset(one.name for one in reader.groups if one.ident in idents)
    return Side(f"the group {name}", name, office, found, groups) if found else None


def _flags(side: Side, system: str) -> NDArray[np.int64] | None:
    """Return the flags of a side on every folder of its own count, None where it has nothing there."""
    principals = side.principals.get(system)
    if not principals or system not in side.office.readers:
        return None
    everyone = side.office.systems.everyone(system, principals, is_narrow=True)
    rows = np.arange(everyone.matrix.folders.rows)
    return PeopleFlags(everyone, [principals[0].person]).flags(rows)[:, 0]


def _of_system(system: str, left: Side, right: Side) -> list[Difference]:
    reader = left.office.readers.get(system) or right.office.readers[system]
    folders = reader.table("folders")
    path_of = folder_paths(folders)
    sides = []
    for side in (left, right):
        flags = _flags(side, system)
        theirs = side.office.readers.get(system)
        if flags is None or theirs is None:
            flags = np.zeros(folders.rows, dtype=np.int64)
        elif theirs is not reader:
            flags = _moved(flags, theirs, folders)
        sides.append(flags)
    result = []
    for number, one in enumerate(apart(folders, *sides)):
        address = Address(system, path_of(one.row))
        side, more = (left, one.left & ~one.right) if one.left & ~one.right else (right, one.right & ~one.left)
        result.append(Difference(address, one, _by(side, address, more) if number < _MOST_EXPLAINED else ""))
    return result


def _moved(flags: NDArray[np.int64], reader: SurveyReader, folders: Table) -> NDArray[np.int64]:
    """Return flags of one count's folders in the rows of another's: folders are the same by their paths."""
    others = reader.table("folders")
    path_of, here = folder_paths(others), folder_paths(folders)
    rows = {path_of(row): row for row in range(others.rows)}
    found = np.zeros(folders.rows, dtype=np.int64)
    for row in range(folders.rows):
        other = rows.get(here(row))
        found[row] = 0 if other is None else flags[other]
    return found


def _by(side: Side, address: Address, more: Right) -> str:
    """Return by which way and entry somebody has what the other lacks."""
    principals = side.principals.get(address.system, [])
    if not principals or not principals[0].account.login:
        return side.name
    try:
        access = side.office.systems.access(find_location(side.office.readers[address.system], address), principals)
    except UnknownNameError:
        return ""
    best = max(access.ways, key=lambda way: (way.rights & more).bit_count(), default=None)
    reason = given_by(best, more) if best is not None and best.rights & more else None
    if best is None or reason is None:
        return ""
    return f"{best.name}: {word_entry(reason.entry, side.office.names(address.system))}"
