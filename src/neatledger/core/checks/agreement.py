"""Whether the office is as it is meant to be: expectations, and the plan against what was found."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass

import numpy as np

from neatledger.core.access.differences import COMPARED
from neatledger.core.access.divergence import divergences
from neatledger.core.access.everyone import RowFilter, flag_rights
from neatledger.core.access.ways import told_by
from neatledger.core.checks.contract import Check, Finding, OfficeFacts, Severity, SystemFacts
from neatledger.core.lists.contract import word_entry
from neatledger.core.lists.rights import LEVEL_RIGHTS, Level, Right, spell_rights
from neatledger.core.people.principals import Principal, is_held_by
from neatledger.core.plan.plan import Bound, Expectation, Kind
from neatledger.core.tree.address import Address
from neatledger.core.tree.patterns import match_folders
from neatledger.core.tree.unseen import may_be_unseen

__all__ = ["CHECKS"]

_MOST, _MOST_EXPLAINED = 200, 1000


@dataclass(frozen=True, slots=True)
class _Held:
    """What one person has on one folder by any way but an administrator's."""

    rights: Right
    files: int
    read: int
    change: int
    is_known: bool = True

    def unite(self, other: _Held) -> _Held:
        """Unite what two accounts of one person have."""
        read, change = max(self.read, other.read), max(self.change, other.change)
        return _Held(self.rights | other.rights, self.files, read, change, self.is_known and other.is_known)


def _held(facts: SystemFacts, rows: Sequence[int]) -> Iterator[tuple[int, str, _Held]]:
    """Yield what every person has on some folders, by any way but an administrator's."""
    people = [principal.person for principal in facts.principals]
    for block in facts.everyone.blocks(RowFilter.ALL, np.asarray(rows, dtype=np.int64)):
        united: dict[tuple[int, str], _Held] = {}
        counts = block.counts
        numbers = (block.folder, block.column, block.flags, counts.files, counts.read, counts.change, block.unknown)
        for row, column, flags, files, read, change, unknown in zip(
            *(each.tolist() for each in numbers), strict=True
        ):
            if column < len(people) and not facts.everyone.matrix.admins >> column & 1:
                is_known = not unknown and read >= 0
                held = _Held(flag_rights(flags), max(files, 0), max(read, 0), max(change, 0), is_known)
                before = united.get((row, people[column]))
                united[row, people[column]] = held if before is None else before.unite(held)
        for (row, person), held in united.items():
            yield row, person, held


_OF_ACCOUNT = ("account", "service", "entitlement")


def _by(facts: SystemFacts, row: int, numbers: Sequence[int]) -> tuple[str, str]:
    """Name the way and the entry that decided; and the account, where it is that which keeps them out."""
    found = told_by(way for number in numbers for way in facts.explain(row, facts.principals[number]).ways)
    if found is None:
        return "no way in", ""
    way, gate, reason = found
    account = f"{facts.name}:{way.principal.account.login}" if gate.name in _OF_ACCOUNT else ""
    return f"way {way.name}, {gate.name}: {word_entry(reason.entry, facts.names)}", account


def _beyond(level: Level, held: _Held) -> str:
    allowed = LEVEL_RIGHTS[level]
    more = held.rights & ~allowed & COMPARED
    evidence = [spell_rights(more)] if more else []
    if held.change and not allowed & Right.CHANGE:
        evidence.append(f"changes {held.change:,} of {held.files:,} files")
    elif held.read and not allowed & Right.READ:
        evidence.append(f"reads {held.read:,} of {held.files:,} files")
    return ", ".join(evidence)


def _lacking(level: Level, held: _Held) -> str:
    if not held.is_known:
        # What was not seen may be there.
        return ""
    wanted = LEVEL_RIGHTS[level] & (COMPARED if level is not Level.ADD_ONLY else Right.ADD)
    evidence = [spell_rights(wanted & ~held.rights)] if wanted & ~held.rights else []
    if not evidence and wanted & Right.READ and held.read < held.files:
        evidence.append(f"reads only {held.read:,} of {held.files:,} files")
    return ", ".join(evidence)


def _has_level(level: Level, held: _Held) -> bool:
    wanted = LEVEL_RIGHTS[level] & COMPARED
    return held.rights & wanted == wanted or bool(wanted & Right.READ and not wanted & Right.ADD and held.read)


def _judge(expectation: Expectation, held: _Held, is_named: bool) -> str:
    level = expectation.level
    match expectation.bound:
        case Bound.AT_MOST:
            beyond = _beyond(level, held) if is_named else ""
            return f"has more than {level.value}: {beyond}" if beyond else ""
        case Bound.AT_LEAST:
            lacking = _lacking(level, held) if is_named else ""
            return f"has less than {level.value}: lacks {lacking}" if lacking else ""
        case Bound.EXACTLY:
            if is_named:
                lacking = _lacking(level, held)
                return f"has less than {level.value}: lacks {lacking}" if lacking else ""
            return f"has {level.value} too" if level is not Level.NONE and _has_level(level, held) else ""


def _too_much(expectation: Expectation, held: _Held, is_named: bool) -> Right:
    """Return what somebody has that an expectation which does not hold keeps from them."""
    match expectation.bound:
        case Bound.AT_MOST:
            return held.rights & ~LEVEL_RIGHTS[expectation.level]
        case Bound.EXACTLY if not is_named:
            return held.rights
        case _:
            return Right.NONE


def _is_named(office: OfficeFacts, expectation: Expectation, principal: Principal) -> bool:
    if expectation.bound is not Bound.AT_MOST and not office.plan.is_here(principal.person):
        # Who has left, or has not yet come, need not have anything; what they may not have still holds.
        return False
    return any(is_held_by(office.plan, holder, principal) for holder in expectation.holders)


def _expectations(office: OfficeFacts) -> Iterator[Finding]:
    by_name = {facts.name: facts for facts in office.systems}
    for expectation in office.plan.expectations:
        facts = by_name.get(expectation.system)
        where = Address(expectation.system, expectation.pattern)
        if facts is None:
            yield Finding("expectation-broken", where, f"{expectation.name}: the system was not gathered")
            continue
        rows = match_folders(expectation.pattern, facts.folders)
        if not rows:
            yield Finding("expectation-broken", where, f"{expectation.name}: no such folder was found")
        yield from _expect(office, facts, expectation, rows)


def _expect(
    office: OfficeFacts, facts: SystemFacts, expectation: Expectation, rows: Sequence[int]
) -> Iterator[Finding]:
    broken_rows = 0
    principals = facts.everyone.ordinary(enumerate(facts.principals))
    named = {
        person: _is_named(office, expectation, facts.principals[numbers[0]]) for person, numbers in principals.items()
    }
    broken: set[tuple[str, int]] = set()
    for row, person, held in _held(facts, rows):
        fault = _judge(expectation, held, named[person])
        if fault:
            broken.add((person, row))
            # What is broken above is told there, once.
            if (person, int(facts.folders["parent"][row])) not in broken and broken_rows < _MOST:
                broken_rows += 1
                by, _ = _by(facts, row, principals[person])
                evidence = f"{expectation.name}: {person} {fault} — by {by}"
                more = _too_much(expectation, held, named[person])
                cause = _account_at_fault(office, facts, principals[person])
                place = facts.address(row)
                yield Finding("expectation-broken", place, evidence, "", cause, (person,), more)
    if expectation.bound is not Bound.AT_MOST:
        for holder in expectation.holders:
            if holder in office.plan.people and holder not in named:
                where = Address(expectation.system, expectation.pattern)
                evidence = f"{expectation.name}: {holder} has no account on {facts.name}"
                yield Finding("expectation-broken", where, evidence)


def _planned_rows(office: OfficeFacts, facts: SystemFacts) -> Iterator[tuple[Address, int]]:
    for folder in office.plan.folders:
        if folder.address.system == facts.name:
            pattern = folder.address.path
            rows = match_folders(pattern, facts.folders) if b"*" not in pattern else []
            yield folder.address, rows[0] if rows else -1


def _is_unseen(facts: SystemFacts, address: Address) -> bool:
    """Tell whether a folder that was not found may be there all the same."""
    rows = (facts.everyone.matrix.find_row(address.parts[:depth]) for depth in range(len(address.parts) - 1, -1, -1))
    row = next((row for row in rows if row is not None), None)
    return row is not None and may_be_unseen(address, int(facts.folders["state"][row]), facts.not_seen)


def _folder_missing(office: OfficeFacts) -> Iterator[Finding]:
    for facts in office.systems:
        for address, row in _planned_rows(office, facts):
            if row < 0 and not _is_unseen(facts, address):
                yield Finding("folder-missing", address, "the plan has this folder; it was not found")


def _differs(office: OfficeFacts) -> Iterator[Finding]:
    plan = office.plan
    for facts in office.systems:
        people = {
            person: numbers
            for person, numbers in facts.everyone.ordinary(enumerate(facts.principals)).items()
            if person in plan.people or facts.principals[numbers[0]].kind is not Kind.SERVICE
        }
        for number, found in enumerate(divergences(plan, facts.name, facts.everyone, people)):
            one = found.difference
            evidence = f"{one.person} {one.spell()} (plan {one.planned_level.value})"
            # By which entry each has what they have takes a while, and after so many nobody asks.
            by, account = ("the lists of its files", "")
            if one.missing or one.beyond:
                by, account = _by(facts, found.row, people[one.person]) if number < _MOST_EXPLAINED else ("", "")
            evidence += f" — by {by}" if by else ""
            offer = "" if number >= _MOST_EXPLAINED else facts.offer_behind(found.row, people[one.person], one.beyond)
            cause = offer or _account_at_fault(office, facts, people[one.person]) or (account if one.missing else "")
            yield Finding("plan-differs", one.address, evidence, "", cause, (one.person,), one.beyond)


def _account_at_fault(office: OfficeFacts, facts: SystemFacts, numbers: Sequence[int]) -> str:
    """Return the account that is the cause of what somebody has: one of nobody in the plan, or of who has left."""
    first = facts.principals[numbers[0]]
    person = office.plan.people.get(first.person)
    has_left = person is not None and person.end is not None and person.end < office.today
    is_nobodys = person is None and not first.is_planned and bool(first.account.ident)
    return f"{facts.name}:{first.account.login}" if has_left or is_nobodys else ""


def _not_seen(office: OfficeFacts) -> Iterator[Finding]:
    for facts in office.systems:
        for each in facts.not_seen:
            place = f"{facts.name} ({each.source})" if each.source else Address(facts.name, each.path)
            yield Finding("not-seen", place, f"{each.why}: what is there is unknown")


CHECKS = (
    Check(
        "expectation-broken",
        Severity.HIGH,
        "a rule of the plan is broken",
        "change the entry that decides, or the expectation",
        _expectations,
    ),
    Check(
        "plan-differs",
        Severity.MEDIUM,
        "rights differ from the plan",
        "change the list to what the plan says, or the plan",
        _differs,
    ),
    Check("folder-missing", Severity.MEDIUM, "the folder is not there", "make it", _folder_missing),
    Check(
        "not-seen",
        Severity.LOW,
        "something could not be read, so its access is unknown",
        "count as an account that may see it",
        _not_seen,
    ),
)
