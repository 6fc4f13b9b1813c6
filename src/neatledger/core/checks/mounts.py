"""What is mounted read-only, while its lists let people write."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from neatledger.core.access.bits import has_bit
from neatledger.core.checks.contract import Check, Finding, OfficeFacts, Severity, SystemFacts
from neatledger.core.lists.rights import Right

__all__ = ["CHECKS"]


def _read_only_tops(facts: SystemFacts) -> dict[int, list[int]]:
    """Return the folders with which something read-only begins, each with the mounts inside it."""
    matrix = facts.everyone.matrix
    tops = {} if not matrix.terms.read_only else {0: True}
    tops |= {
        row: mount.read_only for mount in matrix.terms.mounts if (row := matrix.find_row(mount.parts)) is not None
    }
    return {row: [other for other in tops if other != row] for row, read_only in tops.items() if read_only}


def _write_on_read_only(office: OfficeFacts) -> Iterator[Finding]:
    for facts in office.systems:
        matrix = facts.everyone.matrix
        for top, others in _read_only_tops(facts).items():
            rows = matrix.order.below(top)
            for other in others:
                inner = matrix.order.below(other)
                # What is mounted further in goes by its own mount.
                rows = rows if top in inner else np.setdiff1d(rows, inner, assume_unique=True)
            bits = np.bitwise_or.reduce(matrix.own(Right.ADD, rows), axis=0, keepdims=True)
            people = {
                principal.person
                for number, principal in enumerate(facts.principals)
                if has_bit(bits, 0, number) and not matrix.admins >> number & 1
            }
            if people:
                who = f"{len(people)} people" if len(people) > 1 else people.pop()
                evidence = f"what is mounted here is read-only, and lists in it let {who} write"
                yield Finding("write-on-read-only", facts.address(top), evidence)


CHECKS = (
    Check(
        "write-on-read-only",
        Severity.MEDIUM,
        "lists let people write where the mount does not",
        "mount it for writing, or take writing out of the lists",
        _write_on_read_only,
    ),
)
