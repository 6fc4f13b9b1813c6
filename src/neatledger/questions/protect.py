"""Would it come back: of each place what is wanted and found, what would be lost, and who could destroy it all."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from datetime import datetime, time

from neatledger.core.plan.protection import SystemProtection
from neatledger.core.protection.found import FoundProtection
from neatledger.core.protection.standing import Standing, standing_of, with_restorers
from neatledger.core.protection.undoing import Undoing
from neatledger.core.trail.records import Did
from neatledger.core.tree.address import Address
from neatledger.questions.copies import Copies, may_restore
from neatledger.questions.office import Office
from neatledger.questions.undoing import undoing_of
from neatledger.questions.written import Written, WrittenSince

__all__ = ["Changed", "Place", "ask", "found_on", "now_of", "places_of", "systems_of"]

_ALTERS = (Did.CHANGE, Did.MAKE, Did.RENAME, Did.DELETE)


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
    `unreached` says which copies cannot be looked at there. `restorers` can bring it back; `untold` are the copies of
    which nobody knows who can.
    """

    address: Address
    standing: Standing
    changed: Changed | None
    written: Written | None
    destroyers: tuple[str, ...]
    unreached: tuple[str, ...]
    restorers: tuple[str, ...]
    untold: tuple[str, ...]
    undoing: Undoing


def ask(
    office: Office, below: Address | str | None = None, undoing: Mapping[str, Undoing] | None = None
) -> list[Place]:
    """Return the places of which the plan wants something, homes among them, or those at and below one folder.

    `undoing` is what undoes savings and deletions on each system, where it was looked at already.
    """
    below = office.below(below)
    now = now_of(office)
    copies, since = Copies(office), WrittenSince(office)
    undoing = undoing_of(office) if undoing is None else undoing
    there = {system: found_on(office, system) for system in office.readers}
    found = []
    for address in places_of(office, below):
        system = office.plan.protection.systems.get(address.system, SystemProtection())
        wanted = office.plan.protection.wanted_at(address)
        standing = standing_of(address.path, wanted, system, there[address.system], now)
        can_restore, untold = copies.restorers(address, system, standing)
        standing = with_restorers(standing, may_restore(office, wanted), can_restore, untold)
        written = since.at(address, standing.points[0].moment) if standing.points else None
        destroyers = copies.destroyers(address, system, standing)
        found.append(
            Place(
                *(address, standing, _changed(office, address, standing), written, *destroyers),
                *(can_restore, untold, undoing[address.system]),
            )
        )
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
