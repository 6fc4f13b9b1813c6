"""Shares: hidden instead of closed, and folders that more than one share publishes."""

from __future__ import annotations

from collections.abc import Iterator

from neatledger.core.access.shares import Share, shares_within
from neatledger.core.checks.contract import Check, Finding, OfficeFacts, Severity, SystemFacts
from neatledger.core.lists.rights import Right, spell_rights
from neatledger.core.tree.address import Address

__all__ = ["CHECKS"]


def _shares(facts: SystemFacts) -> tuple[Share, ...]:
    return facts.everyone.matrix.terms.shares or ()


def _hidden_but_open(office: OfficeFacts) -> Iterator[Finding]:
    for facts in office.systems:
        for share in _shares(facts):
            row = facts.everyone.matrix.find_row(share.parts) if share.is_hidden else None
            if row is None:
                continue
            rights = facts.rights_at(row, [len(facts.everyone.matrix.principals) - 1])
            if rights & (Right.READ | Right.ADD):
                evidence = (
                    f"nobody sees the share {share.name}, and everyone who knows its name has {spell_rights(rights)}"
                )
                yield Finding("hidden-but-open", Address(facts.name, share.path), evidence)


def _published_twice(office: OfficeFacts) -> Iterator[Finding]:
    for facts in office.systems:
        for share, other in shares_within(_shares(facts)):
            evidence = f"the share {other.name} publishes it too: what one of them keeps out comes in by the other"
            yield Finding("published-twice", Address(facts.name, share.path), evidence)


CHECKS = (
    Check(
        "hidden-but-open",
        Severity.MEDIUM,
        "the share is hidden, but open to everyone",
        "hiding is neatness, not protection: grant it to those who need it alone",
        _hidden_but_open,
    ),
    Check(
        "published-twice",
        Severity.LOW,
        "two shares show the same folder",
        "keep one of the shares, or give both the same permission",
        _published_twice,
    ),
)
