"""What a change to access would do: who gains and loses what and how, and what comes into order or out of it."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, replace
from pathlib import Path

from neatledger.core.access.comparing import AccessChange
from neatledger.core.access.tree_gates import Gate
from neatledger.core.access.ways import Way
from neatledger.core.checks.contract import Finding
from neatledger.core.lists.contract import Reason, word_entry
from neatledger.core.lists.rights import Right
from neatledger.core.people.names import EntryNames
from neatledger.core.people.principals import Principal
from neatledger.core.steps.contract import Step
from neatledger.core.tree.address import Address
from neatledger.core.tree.table import folder_paths
from neatledger.ledger.locations import find_location
from neatledger.office.read import read_plan_file
from neatledger.questions import check
from neatledger.questions.imagined import changes_between, imagined_office
from neatledger.questions.mending import find_mending
from neatledger.questions.office import Office

__all__ = ["MadeChange", "StaysOut", "SupposedAccess", "ask", "effects_of", "gone_and_come", "steps_to_plan"]

_MOST_EXPLAINED = 400
_GIVING = ("role", "member", "given", "carries", "list")


@dataclass(frozen=True, slots=True)
class MadeChange:
    """What one person gains or loses from a folder on down, by which way, and the entry that decides."""

    person: str
    address: Address
    change: AccessChange
    way: str
    by: str


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

    Findings that the change only words anew are in neither.
    """

    steps: Sequence[Step]
    then: Office
    changes: Sequence[MadeChange]
    outside: Sequence[StaysOut]
    gone: Sequence[Finding]
    come: Sequence[Finding]


def ask(office: Office, steps: Sequence[Step]) -> SupposedAccess:
    """Return what some steps would do, made one after the other; raises `StepError` where one does not fit."""
    then = imagined_office(office, steps)
    changes = effects_of(office, then)
    gone, come = gone_and_come(office, then)
    return SupposedAccess(steps, then, changes, _stay_out(office, then), gone, come)


def steps_to_plan(office: Office, name: str) -> list[Step]:
    """Return the steps that would bring what was found to the plan of another file; raises `PlanError`."""
    other = imagined_office(office, [])
    other.__dict__["plan"] = replace(read_plan_file(Path(name)), today=office.today)
    return find_mending(other).steps


def gone_and_come(office: Office, then: Office) -> tuple[list[Finding], list[Finding]]:
    """Return the findings that end between an office and as it would be, and those that are new."""
    old, new = (_by_subject([one.finding for one in check.ask(each)]) for each in (office, then))
    gone = [finding for key, finding in old.items() if key not in new]
    return gone, [finding for key, finding in new.items() if key not in old]


def effects_of(office: Office, then: Office) -> list[MadeChange]:
    """Return who gains and loses what between an office and as it would be, with the way and the entry."""
    found = []
    for number, one in enumerate(changes_between(office, then)):
        way, by = ("", "") if number >= _MOST_EXPLAINED else _explain(office, then, one.address, one.change)
        found.append(MadeChange(one.change.person, one.address, one.change, way, by))
    return found


def _by_subject(findings: Sequence[Finding]) -> dict[tuple[str, str, str], Finding]:
    """Return findings by what they are of: a place alone where a check has one there, else also whom or what."""
    counts = Counter((one.check, check.place_of(one)) for one in findings)
    found = {}
    for one in findings:
        place = one.check, check.place_of(one)
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
    gains = bool(change.gained) or (not change.lost and change.files > 0)
    side, rights = (then, change.gained) if gains else (office, change.lost)
    principals = _principals(side, address.system, change.person)
    if not principals:
        return "", ""
    access = side.systems.access(find_location(side.readers[address.system], address), principals)
    ways = [way for way in access.ways if way.rights & rights] or [way for way in access.ways if way.rights]
    if not ways:
        return "", ""
    best = max(ways, key=lambda way: (way.rights & rights).bit_count())
    return best.name, _decided_by(best, rights, side.names(address.system))


def _decided_by(way: Way, rights: Right, names: EntryNames) -> str:
    """Return the entry that gave most of some rights, or what decided the way."""
    # What gives: a role, or a service's word, before a list that perhaps lets everything through.
    gates = [gate for name in _GIVING for gate in way.gates if gate.name == name]
    reasons = [reason for gate in gates[:1] for reason in gate.reasons if reason.rights & rights]
    reason: Reason | None = max(reasons, key=lambda one: (one.rights & rights).bit_count(), default=None)
    reason = reason or way.decided_by[1]
    return "" if reason is None else word_entry(reason.entry, names)


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


def _named_and_out(then: Office, system: str, newly: Mapping[str, Iterable[Principal]]) -> list[StaysOut]:
    everyone = then.systems.everyone(system, then.systems.holders[system], is_narrow=True)
    matrix = everyone.matrix
    lists, parent = matrix.folders["list"], matrix.folders["parent"]
    found: list[StaysOut] = []
    path_of = folder_paths(matrix.folders)
    for number in range(len(then.readers[system].strings("lists.body"))):
        view = matrix.view(number, is_folder=True)
        for ident, principals in newly.items():
            given = (view.groups | view.either).get(ident, Right.NONE)
            if not given & Right.READ:
                continue
            rows = [row for row in (lists == number).nonzero()[0].tolist() if not row or lists[parent[row]] != number]
            for row in rows:
                address = Address(system, path_of(row))
                for principal in principals:
                    access = then.systems.access(
                        find_location(then.readers[system], address), _principals(then, system, principal.person)
                    )
                    stopped = [way for way in access.ways if way.first_stop is not None]
                    if not access.rights & Right.READ and access.is_known and stopped:
                        gate = stopped[0].first_stop
                        assert gate is not None
                        reason = gate.reasons[0] if gate.reasons else None
                        by = "" if reason is None else word_entry(reason.entry, then.names(system))
                        found.append(StaysOut(principal.person, address, gate, by))
    return found
