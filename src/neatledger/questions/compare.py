"""Two people, two groups, or one of them at two counts, beside each other: what only one has, and by what."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from datetime import date

from neatledger.core.access.comparing import AccessChange, compare
from neatledger.core.access.row_pairs import rows_of_two_counts
from neatledger.core.access.ways import given_by
from neatledger.core.lists.contract import word_entry
from neatledger.core.lists.rights import Right
from neatledger.core.people.membership import outer_groups
from neatledger.core.people.principals import Principal, only_in
from neatledger.core.tree.address import Address
from neatledger.errors import UnknownNameError
from neatledger.ledger.locations import find_location
from neatledger.questions.beside import named_files
from neatledger.questions.office import Office

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
    """What the two have on a folder and with its files: what the left has `before`, what the right has `after`.

    `by` is what gives whoever has more what they have: a way and an entry.
    """

    address: Address
    change: AccessChange
    by: str


@dataclass(frozen=True)
class Compared:
    """Both sides with the groups that only one of them is in, and where they differ; on which systems and folders."""

    left: Side
    right: Side
    only_left: tuple[str, ...]
    only_right: tuple[str, ...]
    differences: Sequence[Difference]
    systems: Sequence[str] = ()
    folders: int = 0


def ask(office: Office, one: str, other: str, *, then: date | None = None) -> Compared:
    """Compare two people or groups, as the count has them; with `then` the other as a count of that day had it."""
    past = office.at(then) if then else office
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
    return Compared(
        left, right, tuple(sorted(mine - theirs)), tuple(sorted(theirs - mine)), found, *_seen(left, right)
    )


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
    return Compared(left, right, (), (), found, *_seen(left, right))


def _seen(left: Side, right: Side) -> tuple[list[str], int]:
    """Return on which systems two were compared, and on how many folders."""
    systems = list(dict.fromkeys([*left.principals, *right.principals]))
    readers = [left.office.readers.get(one) or right.office.readers[one] for one in systems]
    return systems, sum(one.table("folders").rows for one in readers)


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


def _of_system(system: str, left: Side, right: Side) -> list[Difference]:
    readers = [side.office.readers.get(system) for side in (left, right)]
    tables, people = [], []
    for side, reader in zip((left, right), readers, strict=True):
        principals = side.principals.get(system)
        has_any = bool(principals) and reader is not None
        tables.append(
            side.office.systems.everyone(system, principals, is_narrow=True) if has_any and principals else None
        )
        people.append(principals[0].person if principals else side.name)
    folders = [None if reader is None else reader.table("folders") for reader in readers]
    pairs = rows_of_two_counts(*folders)
    changes = compare(tables[0], tables[1], people[:1], pairs, others=people[1:], named=named_files(*readers))
    result = []
    for number, one in enumerate(changes):
        address = Address(system, one.path)
        side, more = (left, one.lost) if one.loses else (right, one.gained)
        result.append(Difference(address, one, _by(side, address, more) if number < _MOST_EXPLAINED else ""))
    return result


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
