"""Folders that are open to everyone, or to nobody."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np
from numpy.typing import NDArray

from neatledger.core.checks.contract import ANYONE, Check, Finding, OfficeFacts, Severity, SystemFacts
from neatledger.core.lists.rights import LEVEL_RIGHTS, Right, spell_rights

__all__ = ["CHECKS"]


def _has(facts: SystemFacts, right: Right) -> NDArray[np.bool_]:
    """Mark the folders on which the stranger has a right."""
    principal = len(facts.everyone.matrix.principals) - 1
    return facts.has_right(principal, right)


def _is_planned(office: OfficeFacts, facts: SystemFacts, row: int, right: Right) -> bool:
    grants = office.plan.grants_at(facts.address(row))
    return any(holder == "everyone" and LEVEL_RIGHTS[level] & right for _, holder, level in grants)


def _open_to_all(office: OfficeFacts, right: Right, check: str) -> Iterator[Finding]:
    for facts in office.systems:
        mask = _has(facts, right)
        lists, parent = facts.folders["list"], facts.folders["parent"]
        # A folder that only repeats the list of the open one above it is told there.
        again = np.zeros(facts.folders.rows, dtype=bool)
        again[1:] = mask[parent[1:]] & (lists[1:] == lists[parent[1:]])
        evidence = mask & ~again
        for row in facts.order[evidence[facts.order]].tolist():
            if not _is_planned(office, facts, row, right):
                is_sticky = facts.views[int(lists[row])].is_sticky and right is Right.ADD
                more = " (sticky: they can remove only what is theirs)" if is_sticky else ""
                evidence_words = f"its list gives everyone {spell_rights(right)}{more}"
                yield Finding(check, facts.address(row), evidence_words, people=(ANYONE,), rights=right)


def _may_write(office: OfficeFacts) -> Iterator[Finding]:
    yield from _open_to_all(office, Right.ADD, "everyone-may-write")


def _may_read(office: OfficeFacts) -> Iterator[Finding]:
    yield from _open_to_all(office, Right.READ, "everyone-may-read")


def _nobody(office: OfficeFacts) -> Iterator[Finding]:
    for facts in office.systems:
        matrix = facts.everyone.matrix
        is_given = np.zeros(facts.folders.rows, dtype=bool)
        for rows in facts.runs():
            for right in (Right.ENTER, Right.LIST, Right.ADD):
                # What an administrator may do comes from the role, whatever the list says.
                is_given[rows] |= (matrix.own(right, rows) & ~matrix.admin_bits).any(axis=1)
        empty = ~is_given & ~matrix.doubtful
        for row in facts.tops_of(empty):
            owner = matrix.idents[int(facts.folders["owner"][row])]
            yield Finding(
                "grants-nobody",
                facts.address(row),
                f"no account has any right by its list (owner {facts.owner_name(owner)})",
            )


CHECKS = (
    Check(
        "everyone-may-write",
        Severity.HIGH,
        "everyone can add files",
        "give it to a group and not to everyone, or say in the plan that it is meant",
        _may_write,
    ),
    Check(
        "everyone-may-read",
        Severity.LOW,
        "everyone can look into the folder",
        "give it to a group and not to everyone, or say in the plan that it is meant",
        _may_read,
    ),
    Check(
        "grants-nobody",
        Severity.LOW,
        "the list gives nobody anything",
        "grant those who need it, or remove the folder",
        _nobody,
    ),
)
