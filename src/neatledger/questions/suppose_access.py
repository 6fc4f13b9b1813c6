"""What a change to access would do: who gains and loses what and how, and what comes into order or out of it."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from neatledger.core.access.comparing import AccessChange
from neatledger.core.access.everyone import FLAG_RIGHTS
from neatledger.core.access.people_flags import PeopleFlags
from neatledger.core.access.tree_gates import Gate
from neatledger.core.access.ways import given_by
from neatledger.core.checks.contract import Finding
from neatledger.core.lists.contract import word_entry
from neatledger.core.lists.rights import Right
from neatledger.core.people.principals import Principal
from neatledger.core.steps.contract import Step
from neatledger.core.tree.address import Address
from neatledger.core.tree.table import folder_paths
from neatledger.ledger.locations import find_location
from neatledger.office.read import read_plan_file
from neatledger.questions import check
from neatledger.questions.beside import changes_between
from neatledger.questions.imagined import imagined_office
from neatledger.questions.mending import find_mending
from neatledger.questions.office import Office
from neatledger.questions.told import place_of
from neatledger.questions.unasked import administrators_of, unasked

__all__ = [
    "OF_ACCESS",
    "MadeChange",
    "StaysOut",
    "SupposedAccess",
    "ask",
    "effects_of",
    "gone_and_come",
    "steps_to_plan",
]

_MOST_EXPLAINED, _MOST_TRIED = 100, 50
_READ_FLAG = 1 << FLAG_RIGHTS.index(Right.READ)
"""Folders of an office in which not all findings are looked for twice, unless that is asked for."""

OF_ACCESS = ("expectation-broken", "plan-differs", "left-but-open", "empty-group", "granted-without-service")
"""The checks that are compared in a large office: what they say of access, and of people."""


@dataclass(frozen=True, slots=True)
class MadeChange:
    """What one person gains or loses from a folder on down, by which way, and the entry that decides.

    `unasked` says what of that the plan does not ask for; it is empty where it asks for all.
    """

    person: str
    address: Address
    change: AccessChange
    way: str
    by: str
    unasked: str = ""


@dataclass(frozen=True, slots=True)
class StaysOut:
    """Somebody who is given something and does not come to it, and the first gate that stops them."""

    person: str
    address: Address
    gate: Gate
    by: str


@dataclass(frozen=True, slots=True)
class SupposedAccess:
    """An imagined change to access: its steps, who gains and loses, who stays out, and the findings that go and come.

    Findings that the change only words anew are in neither; `only` are the checks that were compared (None: all).
    """

    steps: Sequence[Step]
    then: Office
    changes: Sequence[MadeChange]
    outside: Sequence[StaysOut]
    gone: Sequence[Finding]
    come: Sequence[Finding]
    only: Sequence[str] | None = None


def ask(office: Office, steps: Sequence[Step], *, all_findings: bool = False) -> SupposedAccess:
    """Return what some steps would do, made one after the other; raises `StepError` where one does not fit.

    Findings are compared of all checks, but in a large office of `OF_ACCESS` alone unless `all_findings` are wanted.
    """
    only = OF_ACCESS if office.is_large and not all_findings else None
    then = imagined_office(office, steps)
    changes = effects_of(office, then)
    gone, come = gone_and_come(office, then, only)
    return SupposedAccess(steps, then, changes, _stay_out(office, then), gone, come, only)


def steps_to_plan(office: Office, name: str) -> list[Step]:
    """Return the steps that would bring what was found to the plan of another file; raises `PlanError`."""
    return find_mending(office.with_(plan=read_plan_file(Path(name)))).steps


def gone_and_come(
    office: Office, then: Office, only: Sequence[str] | None = None
) -> tuple[list[Finding], list[Finding]]:
    """Return the findings that end between an office and as it would be, and those that are new; of some checks."""
    old, new = (_by_subject(check.ask_anew(each, only)) for each in (office, then))
    gone = [finding for key, finding in old.items() if key not in new]
    return gone, [finding for key, finding in new.items() if key not in old]


def effects_of(office: Office, then: Office) -> list[MadeChange]:
    """Return who gains and loses what between an office and as it would be, with the way and the entry."""
    found = []
    administrators: dict[str, set[str]] = {}
    for number, one in enumerate(changes_between(office, then)):
        system = one.address.system
        if system not in administrators:
            administrators[system] = administrators_of(office, system) & administrators_of(then, system)
        way, by = ("", "") if number >= _MOST_EXPLAINED else _explain(office, then, one.address, one.change)
        said = unasked(office.plan, one, administrators[system])
        found.append(MadeChange(one.change.person, one.address, one.change, way, by, said))
    return found


def _by_subject(findings: Sequence[Finding]) -> dict[tuple[str, str, str], Finding]:
    """Return findings by what they are of: a place alone where a check has one there, else also whom or what."""
    counts = Counter((one.check, place_of(one)) for one in findings)
    found = {}
    for one in findings:
        place = one.check, place_of(one)
        # How many there are and by which entry is part of the evidence: in other words it is no other finding.
        subject = one.evidence.partition(" — ")[0]
        if one.check == "plan-differs":
            subject = subject.partition(" ")[0]
        elif counts[place] == 1 and one.check != "expectation-broken":
            subject = ""
        found[(*place, subject)] = one
    return found


def _explain(office: Office, then: Office, address: Address, change: AccessChange) -> tuple[str, str]:
    """Return the way and the entry that gives what is gained, or gave what is lost."""
    gains = bool(change.gained) or (not change.lost and bool(change.gained_files))
    side, rights = (then, change.gained) if gains else (office, change.lost)
    principals = _principals(side, address.system, change.person)
    if not principals:
        return "", ""
    access = side.systems.access(find_location(side.readers[address.system], address), principals)
    ways = [way for way in access.ways if way.rights & rights] or [way for way in access.ways if way.rights]
    if not ways:
        return "", ""
    best = max(ways, key=lambda way: (way.rights & rights).bit_count())
    reason = given_by(best, rights)
    return best.name, "" if reason is None else word_entry(reason.entry, side.names(address.system))


def _principals(office: Office, system: str, person: str) -> list[Principal]:
    return [one for one in office.systems.holders.get(system, ()) if one.person == person]


# Who stays out ------------------------------------------------------------------------------------------


def _stay_out(office: Office, then: Office) -> list[StaysOut]:
    """Return those whom a list or a group newly names and who still cannot read what it speaks of."""
    found: list[StaysOut] = []
    for system, reader in then.readers.items():
        if reader is office.readers[system]:
            continue
        before = {one.account.login: one.holder.idents for one in office.systems.holders[system]}
        newly: dict[str, list[Principal]] = {}
        for one in then.systems.holders[system]:
            for ident in one.holder.idents - before.get(one.account.login, frozenset()):
                newly.setdefault(ident, []).append(one)
        if newly:
            found += _named_and_out(then, system, newly)
    return found


def _named_and_out(then: Office, system: str, newly: Mapping[str, list[Principal]]) -> list[StaysOut]:
    """Return who of some principals cannot read the folders whose lists give it to a group that they are new in.

    Of folders that one gate keeps them from the first stands for all.
    """
    people = {one.person for some in newly.values() for one in some}
    principals = [one for one in then.systems.holders[system] if one.person in people]
    everyone = then.systems.everyone(system, principals, is_narrow=True)
    matrix = everyone.matrix
    lists, parent = matrix.folders["list"], matrix.folders["parent"]
    is_top = np.ones(matrix.folders.rows, dtype=bool)
    is_top[1:] = lists[1:] != lists[parent[1:]]
    names = sorted(people)
    path_of = folder_paths(matrix.folders)
    found: dict[tuple[str, str, bytes], StaysOut] = {}
    for number in np.unique(lists).tolist():
        view = matrix.view(number, is_folder=True)
        giving = [ident for ident in newly if (view.groups | view.either).get(ident, Right.NONE) & Right.READ]
        if not giving:
            continue
        rows = np.flatnonzero(is_top & (lists == number)).astype(np.int64)
        has = PeopleFlags(everyone, names).flags(rows)
        for ident in giving:
            for principal in newly[ident]:
                lacks = rows[has[:, names.index(principal.person)] & _READ_FLAG == 0]
                for row in lacks[:_MOST_TRIED].tolist():
                    one = _stopped(then, Address(system, path_of(row)), principal)
                    if one is not None:
                        found.setdefault((one.person, one.gate.name, one.gate.place), one)
    return list(found.values())


def _stopped(then: Office, address: Address, principal: Principal) -> StaysOut | None:
    principals = _principals(then, address.system, principal.person)
    access = then.systems.access(find_location(then.readers[address.system], address), principals)
    stopped = [way for way in access.ways if way.first_stop is not None]
    if access.rights & Right.READ or not access.is_known or not stopped:
        return None
    gate = stopped[0].first_stop
    assert gate is not None, "only such ways were taken"
    reason = gate.reasons[0] if gate.reasons else None
    by = "" if reason is None else word_entry(reason.entry, then.names(address.system))
    return StaysOut(principal.person, address, gate, by)
