"""Lists that do not say what they seem to: out of order, or with entries that nobody can evaluate."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np
from numpy.typing import NDArray

from neatledger.core.checks.contract import Check, Finding, OfficeFacts, Severity
from neatledger.core.lists.rights import Right
from neatledger.core.plan.plan import CLASSES

__all__ = ["CHECKS"]


def _out_of_order(office: OfficeFacts) -> Iterator[Finding]:
    for facts in office.systems:
        for number, view in facts.views.items():
            for row, more in facts.places(number) if not view.is_ordered else ():
                evidence = "a refusal stands below an entry that allows, or an own entry below one from above" + more
                yield Finding("list-out-of-order", facts.address(row), evidence)


def _not_evaluated(office: OfficeFacts) -> Iterator[Finding]:
    for facts in office.systems:
        for number, view in facts.views.items():
            for row, more in facts.places(number) if view.unsure else ():
                evidence = (
                    f"{view.unsure} of its entries cannot be evaluated (a condition, an object, or an unknown type)"
                )
                yield Finding("entry-not-evaluated", facts.address(row), evidence + more)


def _still_default(office: OfficeFacts) -> Iterator[Finding]:
    """Find folders that the plan grants to somebody while their list names nobody at all."""
    for facts in office.systems:
        for folder in office.plan.folders:
            holders = [holder for holder in folder.grants if holder not in CLASSES]
            if folder.address.system != facts.name or not holders:
                continue
            row = facts.everyone.matrix.find_row(folder.address.parts)
            if row is None or facts.everyone.matrix.doubtful[row]:
                continue
            view = facts.views[int(facts.folders["list"][row])]
            if view.is_plain and not (view.users or view.groups or view.either):
                evidence = f"its list names nobody; the plan grants {', '.join(holders)}"
                yield Finding("list-still-default", folder.address, evidence)


def _without_service(office: OfficeFacts) -> Iterator[Finding]:
    for facts in office.systems:
        matrix = facts.everyone.matrix
        shut = [
            n for n, principal in enumerate(facts.principals) if principal.is_live and not principal.account.may_use
        ]
        if not shut:
            continue
        let_in: dict[int, list[NDArray[np.int64]]] = {number: [] for number in shut}
        for rows in facts.runs():
            granted = matrix.own(Right.LIST, rows) | matrix.own(Right.ADD, rows)
            # What everyone may do says nothing of this account; the stranger's principal is the last.
            everyone = facts.of_principal(granted, len(matrix.principals) - 1)
            for number in shut:
                let_in[number].append(rows[facts.of_principal(granted, number) & ~everyone])
        for number in shut:
            found = np.concatenate(let_in[number])
            if len(found):
                principal = facts.principals[number]
                what = "folder" if len(found) == 1 else "folders"
                first = facts.address(int(found[0])).path.decode("utf-8", "replace")
                evidence = (
                    f"lists let {principal.account.login} into {len(found):,} {what} (first {first}), the service not"
                )
                yield Finding("granted-without-service", f"{facts.name}:{principal.account.login}", evidence)


CHECKS = (
    Check(
        "list-still-default",
        Severity.MEDIUM,
        "the list was never set",
        "set a list with those whom the plan names",
        _still_default,
    ),
    Check(
        "list-out-of-order",
        Severity.MEDIUM,
        "the entries of the list are not in the usual order",
        "put refusals first, and own entries before those from above: what stands below may come too late",
        _out_of_order,
    ),
    Check(
        "entry-not-evaluated",
        Severity.MEDIUM,
        "the list has an entry that cannot be evaluated",
        "replace them by plain entries for groups; till then who can enter is unknown",
        _not_evaluated,
    ),
    Check(
        "granted-without-service",
        Severity.LOW,
        "lists let the account in, but the service is off for it",
        "switch the service on for the account, or take it out of the groups that are granted",
        _without_service,
    ),
)
