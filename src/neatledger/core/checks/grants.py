"""Who is named in lists: people where a group would do, holders nobody knows, groups nobody is in."""

from __future__ import annotations

from collections.abc import Iterator

from neatledger.core.checks.contract import Check, Finding, OfficeFacts, Severity, SystemFacts
from neatledger.core.lists.rights import Right, spell_rights
from neatledger.core.people.principals import Principal

__all__ = ["CHECKS"]

_TOLD = Right.ENTER | Right.LIST | Right.READ | Right.ADD


def _direct_grants(facts: SystemFacts) -> Iterator[tuple[int, list[Principal], Right, Right]]:
    """Yield list, principals named in it, what they get, and what their groups in it would give."""
    by_ident: dict[str, list[Principal]] = {}
    for principal in facts.principals:
        by_ident.setdefault(principal.holder.user, []).append(principal)
    for number, view in facts.views.items():
        users, groups, _ = facts.named(view)
        for ident, rights in users.items():
            principals = by_ident.get(ident, [])
            if principals and rights:
                through = Right.NONE
                for group, given in groups.items():
                    if all(group in principal.holder.groups for principal in principals):
                        through |= given
                yield number, principals, rights & _TOLD, through & _TOLD


def _find_direct(office: OfficeFacts, check: str) -> Iterator[Finding]:
    for facts in office.systems:
        for number, principals, rights, through in _direct_grants(facts):
            beyond = rights & ~through
            kind = "direct-grant" if not through else "escalating-grant" if beyond else "redundant-grant"
            if kind != check:
                continue
            who = "/".join(dict.fromkeys(principal.person for principal in principals))
            evidence = f"{who} is given {spell_rights(rights)} by name"
            if kind == "redundant-grant":
                evidence += ", which a group here gives already"
            elif kind == "escalating-grant":
                evidence += f": {spell_rights(beyond)} beyond what a group here gives"
            for row, more in facts.places(number):
                if not _is_home(facts, row):
                    yield Finding(check, facts.address(row), evidence + more)


def _is_home(facts: SystemFacts, row: int) -> bool:
    address = facts.address(row)
    return any(address.is_within(home.address) for home in facts.homes)


def _direct(office: OfficeFacts) -> Iterator[Finding]:
    yield from _find_direct(office, "direct-grant")


def _redundant(office: OfficeFacts) -> Iterator[Finding]:
    yield from _find_direct(office, "redundant-grant")


def _escalating(office: OfficeFacts) -> Iterator[Finding]:
    yield from _find_direct(office, "escalating-grant")


def _unknown(office: OfficeFacts) -> Iterator[Finding]:
    for facts in office.systems:
        owners = facts.everyone.matrix.idents
        for number, view in facts.views.items():
            _, _, strange = facts.named(view)
            for row, more in facts.places(number) if strange else ():
                cause = f"{strange[0].removeprefix('user ').removeprefix('group ')} on {facts.name}"
                evidence = f"its list names {', '.join(strange)}{more}"
                yield Finding("unknown-holder", facts.address(row), evidence, cause=cause)
        unowned = {number for number, ident in enumerate(owners) if not facts.is_known_owner(ident)}
        if unowned:
            mask = [int(owner) in unowned for owner in facts.folders["owner"]]
            for row in (row for row in facts.order.tolist() if mask[row]):
                owner = owners[int(facts.folders["owner"][row])]
                evidence = f"it belongs to {owner}, which no account has"
                yield Finding("unknown-holder", facts.address(row), evidence, cause=f"{owner} on {facts.name}")
            yield from _unowned_files(facts, unowned)


def _unowned_files(facts: SystemFacts, unowned: set[int]) -> Iterator[Finding]:
    classes = facts.everyone.matrix.classes
    found: dict[tuple[int, int], int] = {}
    for folder, owner, files in zip(classes["folder"], classes["owner"], classes["files"], strict=True):
        if int(owner) in unowned:
            found[int(folder), int(owner)] = found.get((int(folder), int(owner)), 0) + int(files)
    for (folder, owner), files in found.items():
        ident = facts.everyone.matrix.idents[owner]
        what = f"{files:,} of its files belong to {ident}, which no account has"
        yield Finding("unknown-holder", facts.address(folder), what, cause=f"{ident} on {facts.name}")


def _empty_groups(office: OfficeFacts) -> Iterator[Finding]:
    for facts in office.systems:
        held = {ident for principal in facts.principals for ident in principal.holder.groups}
        names = {group.ident: group.name for group in facts.groups}
        for number, view in facts.views.items():
            granted = facts.named(view)[1]
            empty = [names[i] for i, rights in granted.items() if rights and i in names and i not in held]
            for row, more in facts.places(number) if empty else ():
                evidence = f"its list grants {', '.join(empty)}, and nobody is in it{more}"
                yield Finding("empty-group", facts.address(row), evidence)


CHECKS = (
    Check(
        "direct-grant",
        Severity.ADVICE,
        "somebody has rights by name, not through a group",
        "put the person into a group that is granted",
        _direct,
    ),
    Check(
        "redundant-grant",
        Severity.LOW,
        "somebody has by name what a group gives already",
        "remove the entry: it will outlive the membership unnoticed",
        _redundant,
    ),
    Check(
        "escalating-grant",
        Severity.MEDIUM,
        "somebody has by name more than their group",
        "decide whether the person needs more than the group; else remove the entry",
        _escalating,
    ),
    Check(
        "unknown-holder",
        Severity.MEDIUM,
        "the list or the owner names an id of no account",
        "find out whose it was; remove the entry, or give the folder to someone: a new account may get the number",
        _unknown,
    ),
    Check(
        "empty-group",
        Severity.LOW,
        "a group with rights has no members",
        "put people into the group, or remove its entry",
        _empty_groups,
    ),
)
