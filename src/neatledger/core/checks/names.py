"""Names that get in each other's way."""

from __future__ import annotations

import os
from collections.abc import Iterator

from neatledger.core.checks.contract import Check, Finding, OfficeFacts, Severity

__all__ = ["CHECKS"]


def _collisions(office: OfficeFacts) -> Iterator[Finding]:
    for facts in office.systems:
        alike: dict[tuple[int, str], list[bytes]] = {}
        for folder, name in zip(facts.collisions["folder"].tolist(), facts.collisions.texts("name"), strict=True):
            alike.setdefault((folder, os.fsdecode(name).casefold()), []).append(name)
        for (folder, _), names in alike.items():
            evidence = " and ".join(name.decode(errors="backslashreplace") for name in sorted(names))
            yield Finding("name-collision", facts.address(folder), f"{evidence} differ in letter case only")


CHECKS = (
    Check(
        "name-collision",
        Severity.LOW,
        "two names differ only in upper and lower case",
        "rename one: desktop clients can keep only one of them",
        _collisions,
    ),
)
