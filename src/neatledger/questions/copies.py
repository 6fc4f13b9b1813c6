"""The copies of a folder: who could destroy it with all of them, and who could bring it back from one."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

import numpy as np

from neatledger.core.access.everyone import FLAG_RIGHTS
from neatledger.core.access.people_flags import PeopleFlags
from neatledger.core.lists.rights import Right
from neatledger.core.plan.protection import SystemProtection, Wanted
from neatledger.core.protection.standing import Standing
from neatledger.core.tree.address import Address
from neatledger.questions.office import Office

__all__ = ["Copies", "may_restore"]

_ADDS = 1 << FLAG_RIGHTS.index(Right.ADD)
_DESTROYS = _ADDS | 1 << FLAG_RIGHTS.index(Right.DELETE)
_READS = 1 << FLAG_RIGHTS.index(Right.READ)


def may_restore(office: Office, wanted: Wanted) -> list[str]:
    """Return the people who are to bring a folder back, as the plan says; nobody where it does not."""
    return people_of(office, wanted.restore or ())


def people_of(office: Office, holders: Sequence[str]) -> list[str]:
    """Return the people behind people and groups, those who are here."""
    plan = office.plan
    return [
        person
        for person in plan.people
        if plan.is_here(person) and any(plan.is_holder(one, person) for one in holders)
    ]


class Copies:
    """Looks at the rights on copies; keeps for each system what many folders need."""

    def __init__(self, office: Office) -> None:
        self._office = office
        self._flags: dict[str, tuple[PeopleFlags, Sequence[str]]] = {}

    def destroyers(
        self, address: Address, system: SystemProtection, standing: Standing
    ) -> tuple[tuple[str, ...], tuple[str, ...]]:
        """Return who could alter a folder and all copies of it, and the copies that cannot be looked at."""
        who = self._at(address, _DESTROYS)
        unreached: list[str] = []
        for name, place, _ in self._copies(address, system, standing):
            there = None if place is None else self._at(place, _DESTROYS)
            if there is None:
                unreached.append(name)
            else:
                who = None if who is None else who & there
        return tuple(sorted(who or ())), tuple(unreached)

    def restorers(
        self, address: Address, system: SystemProtection, standing: Standing
    ) -> tuple[tuple[str, ...], tuple[str, ...]]:
        """Return who could bring a folder back, and the copies of which that is not known.

        Somebody who may read a copy and put files into the folder can; of a backup the plan may say who can.
        """
        found: set[str] = set()
        untold: list[str] = []
        into = self._at(address, _ADDS)
        said = {one.title: one.restore for one in system.backups if one.restore}
        newest = {one.by: one.at for one in reversed(standing.points)}
        for name, place, is_snapshot in self._copies(address, system, standing):
            if name in said:
                found.update(people_of(self._office, said[name]))
                continue
            where = Address(address.system, newest[name]) if is_snapshot else place
            readers = None if where is None else self._at(where, _READS)
            if readers is None or into is None:
                untold.append(name)
            else:
                found |= readers & into
        return tuple(sorted(found)), tuple(untold)

    def _copies(
        self, address: Address, system: SystemProtection, standing: Standing
    ) -> Iterator[tuple[str, Address | None, bool]]:
        """Yield what brings a folder back: its name, where it can be looked at, whether it is a snapshot."""
        names = dict.fromkeys(one.by for one in standing.points)
        for rule in system.snapshots:
            if rule.name in names:
                yield rule.name, Address(address.system, rule.where), True
        for backup in system.backups:
            if backup.title in names:
                yield backup.title, backup.at, False

    def _at(self, address: Address, flags_wanted: int) -> set[str] | None:
        """Return who has any of some rights on a folder; None where it was not counted."""
        if address.system not in self._office.readers:
            return None
        flags, names = self._of(address.system)
        row = flags.everyone.matrix.find_row(address.parts)
        if row is None:
            return None
        mine = flags.flags(np.array([row]))[0]
        return {person for person, has in zip(names, mine.tolist(), strict=True) if has & flags_wanted}

    def _of(self, system: str) -> tuple[PeopleFlags, Sequence[str]]:
        if system not in self._flags:
            principals = self._office.systems.holders[system]
            everyone = self._office.systems.everyone(system, principals, is_narrow=True)
            people = list(dict.fromkeys(one.person for one in principals))
            self._flags[system] = PeopleFlags(everyone, people), people
        return self._flags[system]
