"""Folders that are wider than the folder above, or do not pass on what that passes on."""

from __future__ import annotations

from collections.abc import Iterator
from functools import reduce
from operator import or_

import numpy as np

from neatledger.core.checks.contract import Check, Finding, OfficeFacts, Severity, SystemFacts
from neatledger.core.lists.rights import Right, spell_rights

__all__ = ["CHECKS"]

_WIDER = (Right.READ, Right.ADD)
_FEW = 4


def _is_expected(office: OfficeFacts, facts: SystemFacts, row: int) -> bool:
    address = facts.address(row)
    if any(folder.address == address for folder in office.plan.folders):
        return True
    return any(address == home.address for home in facts.homes)


def _wider(office: OfficeFacts) -> Iterator[Finding]:
    for facts in office.systems:
        parent, owner = facts.folders["parent"], facts.folders["owner"]
        if facts.folders.rows < 2:
            continue
        gained: dict[int, dict[Right, int]] = {}
        for rows in facts.runs():
            # Folders of a run have few folders above them: each is looked at once.
            tops, top_of = np.unique(np.maximum(parent[rows], 0), return_inverse=True)
            here, above = (facts.everyone.matrix.block(some).rights for some in (rows, tops))
            for right in _WIDER:
                wider = here[right] & ~above[right][top_of]
                for place in np.flatnonzero(wider.any(axis=1)).tolist():
                    gained.setdefault(int(rows[place]), {})[right] = int.from_bytes(wider[place].tobytes(), "little")
        for row in (row for row in facts.order.tolist() if row in gained):
            # What stands above the beginning of a share is nothing that it could be wider than.
            if facts.everyone.matrix.roots[row] or _is_expected(office, facts, row):
                continue
            own = facts.everyone.matrix.idents[int(owner[row])]
            people = _gaining(facts, gained[row], own)
            if people:
                names = tuple(people)
                more = reduce(or_, people.values())
                cause = _offer(facts, row, people)
                where = facts.address(row)
                yield Finding("wider-than-above", where, _tell(people), cause=cause, people=names, rights=more)


def _offer(facts: SystemFacts, row: int, people: dict[str, Right]) -> str:
    """Return the one link or hand-out by which all that are more come, where they are few; else nothing."""
    if not facts.is_service or len(people) > _FEW:
        return ""
    found = {
        facts.offer_behind(row, [n for n, one in enumerate(facts.principals) if one.person == person], rights)
        for person, rights in people.items()
    }
    return found.pop() if len(found) == 1 else ""


def _gaining(facts: SystemFacts, gained: dict[Right, int], owner: str) -> dict[str, Right]:
    people: dict[str, Right] = {}
    for right, bits in gained.items():
        for number, principal in enumerate(facts.principals):
            # That a folder's owner may write in it is no surprise.
            if bits >> number & 1 and not facts.everyone.matrix.model.owns(principal.holder, owner):
                people[principal.person] = people.get(principal.person, Right.NONE) | right
    return people


def _tell(people: dict[str, Right]) -> str:
    shown = [f"{person} ({spell_rights(rights)})" for person, rights in list(people.items())[:_FEW]]
    more = f" and {len(people) - _FEW} more" if len(people) > _FEW else ""
    return f"beyond the folder above: {', '.join(shown)}{more}"


def _broken(office: OfficeFacts) -> Iterator[Finding]:
    for facts in office.systems:
        parent, default = facts.folders["parent"], facts.folders["default"]
        if facts.folders.rows < 2:
            continue
        yield from _closed(office, facts)
        above = default[parent[1:]]
        rows = np.flatnonzero((above >= 0) & (default[1:] != above)) + 1
        marked = set(rows.tolist())
        for row in (row for row in facts.order.tolist() if row in marked):
            what = "has no default list" if int(default[row]) < 0 else "has another default list"
            evidence = f"it {what}, so what is made here does not get what the folder above passes on"
            yield Finding("broken-inheritance", facts.address(row), evidence)


def _closed(office: OfficeFacts, facts: SystemFacts) -> Iterator[Finding]:
    """Find folders closed to what comes from above, where the plan does not close them."""
    meant = {folder.address for folder in office.plan.folders if folder.closed}
    closed = [number for number, view in facts.views.items() if view.is_closed]
    marked = np.isin(facts.folders["list"], closed) & ~facts.everyone.matrix.roots
    for row in (row for row in facts.order.tolist() if marked[row]):
        if facts.address(row) not in meant:
            evidence = "it is closed to what comes from above: a change there does not reach it"
            yield Finding("broken-inheritance", facts.address(row), evidence)


CHECKS = (
    Check(
        "wider-than-above",
        Severity.LOW,
        "people can do more here than in the folder above",
        "name the folder in the plan if that is meant; else push the list of the folder above down",
        _wider,
    ),
    Check(
        "broken-inheritance",
        Severity.LOW,
        "the folder does not pass on what the folder above does",
        "give it the default list of the folder above, or close it in the plan",
        _broken,
    ),
)
