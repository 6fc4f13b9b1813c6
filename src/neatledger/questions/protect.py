"""Would it come back: of each place what is wanted and found, what would be lost, and who could destroy it all."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime, time

import numpy as np

from neatledger.core.access.comparing import PeopleFlags
from neatledger.core.access.everyone import FLAG_RIGHTS
from neatledger.core.lists.rights import Right
from neatledger.core.plan.protection import SystemProtection
from neatledger.core.protection.found import FoundProtection
from neatledger.core.protection.standing import Standing, standing_of
from neatledger.core.protection.supposing import Supposed, as_it_is_said, supposed_rules
from neatledger.core.trail.records import Did
from neatledger.core.tree.address import Address
from neatledger.errors import UsageError
from neatledger.ledger.space import SpaceView
from neatledger.questions.office import Office
from neatledger.questions.views import view_of
from neatledger.questions.written import Written, WrittenSince

__all__ = [
    "Changed",
    "Place",
    "Then",
    "ask",
    "found_on",
    "now_of",
    "places_of",
    "suppose",
    "systems_of",
    "unversioned",
]

DOCUMENTS = frozenset(
    {"csv", "doc", "docx", "md", "odg", "odp", "ods", "odt", "ppt", "pptx", "rtf", "tex", "txt", "xls", "xlsx"}
)
"""Kinds of files that people write, and save over what was there."""

_ALTERS = (Did.CHANGE, Did.MAKE, Did.RENAME, Did.DELETE)
_DESTROYS = 1 << FLAG_RIGHTS.index(Right.ADD) | 1 << FLAG_RIGHTS.index(Right.DELETE)


@dataclass(frozen=True, slots=True)
class Changed:
    """What was done at a place since it could last be brought back: records, by how many people."""

    records: int
    people: int


@dataclass(frozen=True)
class Place:
    """One place with its protection.

    `changed` is None where no record tells what was done there, or where nothing would bring it back; `written` also
    where the count cannot tell what was written since. `destroyers`
    are the people who can alter the folder and every copy of it that can be reached in a system of the plan;
    `unreached` says which copies cannot be looked at there.
    """

    address: Address
    standing: Standing
    changed: Changed | None
    written: Written | None
    destroyers: tuple[str, ...]
    unreached: tuple[str, ...]


def ask(office: Office, below: Address | None = None) -> list[Place]:
    """Return the places of which the plan wants something, homes among them, or those at and below one folder."""
    now = now_of(office)
    destroyers, since = _Destroyers(office), WrittenSince(office)
    there = {system: found_on(office, system) for system in office.readers}
    found = []
    for address in places_of(office, below):
        system = office.plan.protection.systems.get(address.system, SystemProtection())
        wanted = office.plan.protection.wanted_at(address)
        standing = standing_of(address.path, wanted, system, there[address.system], now)
        who, unreached = destroyers.of(address, system, standing)
        written = since.at(address, standing.points[0].moment) if standing.points else None
        found.append(Place(address, standing, _changed(office, address, standing), written, who, unreached))
    return found


def now_of(office: Office) -> datetime:
    """Return the moment of the question: the count's, where it is asked on its day."""
    if office.today == office.day:
        return office.count.taken_at
    return datetime.combine(office.today, time(23, 59)).astimezone()


def found_on(office: Office, system: str) -> FoundProtection:
    """Return what the count has of a system's snapshots and backups."""
    reader = office.readers.get(system)
    return FoundProtection() if reader is None else FoundProtection.of_facts(reader.facts.get("protection") or {})


def systems_of(office: Office) -> dict[str, tuple[SystemProtection, FoundProtection]]:
    """Return of each system what is to protect it, and what was found of that."""
    return {name: (rules, found_on(office, name)) for name, rules in office.plan.protection.systems.items()}


def places_of(office: Office, below: Address | None = None) -> list[Address]:
    """Return where the plan says something: what it wants, what a backup leaves out, homes, the plan's folders."""
    protection = office.plan.protection
    found = dict.fromkeys([below] if below is not None else [])
    found |= dict.fromkeys(protection.wanted)
    for name, system in protection.systems.items():
        paths = [path for backup in system.backups for path in (*backup.of, *backup.without)]
        paths += [rule.of for rule in system.snapshots] + [one.path for one in system.encrypted] + list(system.synced)
        found |= dict.fromkeys(Address(name, path) for path in paths)
    for name, planned in office.plan.systems.items():
        found |= dict.fromkeys(Address(name, path) for path in planned.homes)
    found |= dict.fromkeys(one.address for one in office.plan.folders)
    wanted = [one for one in found if one.system in office.readers and (below is None or one.is_within(below))]
    return sorted(wanted, key=lambda one: (one.system, one.parts))


def _changed(office: Office, address: Address, standing: Standing) -> Changed | None:
    if not standing.points or not office.ledger.has_trail(address.system):
        return None
    found = office.ledger.trail.select(
        below={address: None}, dids=_ALTERS, is_done=True, since=standing.points[0].moment
    )
    return Changed(found.number, len(found.last_by_login()))


@dataclass(frozen=True, slots=True)
class Then:
    """One place as it is and as it would be; `least` and `most` are bytes more that the copies would take.

    None where nobody says how much a run holds, or for how long it is kept.
    """

    address: Address
    now: Standing
    then: Standing
    least: int | None
    most: int | None


def suppose(office: Office, supposed: Mapping[str, Supposed], below: Address | None = None) -> list[Then]:
    """Return the places that other rules would protect otherwise, if all ran as it is said; raises `UsageError`."""
    now, protection = now_of(office), office.plan.protection
    found = []
    for name, one in supposed.items():
        rules = protection.systems.get(name, SystemProtection())
        known = {*(each.name for each in rules.snapshots), *(each.name for each in rules.backups)}
        unknown = sorted(one.names - known)
        if unknown:
            hint = f"{name} has {', '.join(sorted(known)) or 'no snapshots and no backups'}"
            raise UsageError(f"no rule of {name} is called {unknown[0]!r}", hint=hint)
        then = supposed_rules(rules, one)
        there, expected = found_on(office, name), as_it_is_said(then, now)
        places = dict.fromkeys(each for each in places_of(office, below) if each.system == name)
        places |= dict.fromkeys(Address(name, path) for some in one.into.values() for path in some)
        for address in sorted(places, key=lambda each: each.parts):
            wanted = protection.wanted_at(address)
            standing = standing_of(address.path, wanted, rules, there, now)
            other = standing_of(address.path, wanted, then, expected, now)
            least, most = _more_bytes(office, address, one, then)
            found.append(Then(address, standing, other, least, most))
    return found


def _more_bytes(
    office: Office, address: Address, supposed: Supposed, then: SystemProtection
) -> tuple[int | None, int | None]:
    """Return how many bytes more the copies of what is taken in would be: one copy at least, one a run at most."""
    rules = [rule for rule in then.backups if address.path in supposed.into.get(rule.name, ())]
    if not rules:
        return 0, 0
    size = _bytes_below(office, address)
    if size is None or any(rule.every is None or rule.keep is None for rule in rules):
        return size, None
    runs = sum(max(1, int(rule.keep / rule.every)) for rule in rules if rule.keep and rule.every)
    return size * len(rules), size * runs


def _bytes_below(office: Office, address: Address) -> int | None:
    """Return the apparent bytes in a folder and below it; None where it was not counted."""
    view = view_of(office, office.readers[address.system], with_principals=False)
    row = view.row_of(address.path)
    return None if row is None else view.all_at(row).bytes


def unversioned(office: Office) -> dict[str, int]:
    """Return by system how many documents have no old version and no snapshot, where the plan says that none is kept.

    Nothing of a system of which the plan does not say how many versions it keeps.
    """
    found = {}
    for name, reader in office.readers.items():
        view = view_of(office, reader, with_principals=False)
        kinds = frozenset(kind for kind in DOCUMENTS if not view.rules.kept_versions(kind))
        if view.rules.versions is None or not kinds:
            continue
        snapped = [rule.of for rule in office.plan.protection.systems.get(name, SystemProtection()).snapshots]
        files = _count(view, kinds, snapped)
        if files:
            found[name] = files
    return found


def _count(view: SpaceView, kinds: frozenset[str], without: Sequence[bytes]) -> int:
    """Return how many files in use are of some kinds, those in or below some folders left out."""
    numbers = [number for number, word in enumerate(view.kind_words) if word in kinds]
    classes = view.reader.table("classes")
    mask = np.isin(classes["kind"], numbers)
    if view.sorts is not None:
        mask &= view.sorts[classes["folder"]] == 0
    for top in map(view.row_of, without):
        if top is not None and mask.any():
            mask &= ~view.usage().tree.is_below(classes["folder"], top)
    return int(classes["files"][mask].sum())


class _Destroyers:
    """Who could alter a folder and all copies of it: by what one stolen account could do."""

    def __init__(self, office: Office) -> None:
        self._office = office
        self._flags: dict[str, tuple[PeopleFlags, Sequence[str]]] = {}

    def of(
        self, address: Address, system: SystemProtection, standing: Standing
    ) -> tuple[tuple[str, ...], tuple[str, ...]]:
        """Return the people, and the copies that cannot be looked at."""
        who = self._at(address)
        unreached: list[str] = []
        for name, place in self._copies(address, system, standing):
            there = None if place is None else self._at(place)
            if there is None:
                unreached.append(name)
            else:
                who = None if who is None else who & there
        return tuple(sorted(who or ())), tuple(unreached)

    def _copies(
        self, address: Address, system: SystemProtection, standing: Standing
    ) -> Iterator[tuple[str, Address | None]]:
        names = dict.fromkeys(one.by for one in standing.points)
        for rule in system.snapshots:
            if rule.name in names:
                yield rule.name, Address(address.system, rule.where)
        for backup in system.backups:
            if f"backup {backup.name}" in names:
                yield f"backup {backup.name}", backup.at

    def _at(self, address: Address) -> set[str] | None:
        """Return who can alter a folder; None where it was not counted."""
        if address.system not in self._office.readers:
            return None
        if address.system not in self._flags:
            principals = self._office.systems.holders[address.system]
            everyone = self._office.systems.everyone(address.system, principals, is_narrow=True)
            people = list(dict.fromkeys(one.person for one in principals))
            self._flags[address.system] = PeopleFlags(everyone, people), people
        flags, names = self._flags[address.system]
        row = flags.everyone.matrix.find_row(address.parts)
        if row is None:
            return None
        mine = flags.flags(np.array([row]))[0]
        return {person for person, has in zip(names, mine.tolist(), strict=True) if has & _DESTROYS}
