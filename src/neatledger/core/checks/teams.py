"""Team folders: published and granted are two things; and what only one way in keeps is void on the other."""

from __future__ import annotations

from collections.abc import Iterator

from neatledger.core.checks.contract import Check, Finding, OfficeFacts, Severity
from neatledger.core.lists.rights import Level, Right
from neatledger.core.sharing.service import Service
from neatledger.core.survey.shared import Reply, TeamFolder
from neatledger.core.tree.address import Address

__all__ = ["CHECKS"]

_FEW = 5


def _teams(office: OfficeFacts) -> Iterator[tuple[Service, TeamFolder, Address]]:
    for facts in office.services:
        for team in facts.service.shared.teams:
            yield facts.service, team, Address(facts.service.system, team.path)


def _accepted(team: TeamFolder) -> list[str]:
    return [member.holder for member in team.members if member.reply is Reply.ACCEPTED and member.rights]


def _not_published(office: OfficeFacts) -> Iterator[Finding]:
    for _, team, address in _teams(office):
        if not team.is_on and _accepted(team):
            evidence = f"{', '.join(_accepted(team))} are granted, and it is not switched on as a team folder"
            yield Finding("granted-not-published", address, evidence)


def _granted_nobody(office: OfficeFacts) -> Iterator[Finding]:
    for service, team, address in _teams(office):
        members = [member for member in team.members if member.rights]
        if team.is_on and not any(service.member_numbers(one) or service.perhaps_numbers(one) for one in members):
            yield Finding("published-for-nobody", address, "it is switched on, and nobody is a member")


def _member_missing(office: OfficeFacts) -> Iterator[Finding]:
    for service, team, address in _teams(office):
        for folder in office.plan.folders:
            if folder.address != address:
                continue
            for holder, level in folder.grants.items():
                missing = [] if level is Level.NONE else list(_missing(office, service, team, holder))
                if missing:
                    some = ", ".join(missing[:_FEW]) + (
                        f" and {len(missing) - _FEW} more" if len(missing) > _FEW else ""
                    )
                    evidence = f"the plan gives {holder} {level.value}; no member: {some}"
                    yield Finding("member-missing", address, evidence)


def _missing(office: OfficeFacts, service: Service, team: TeamFolder, holder: str) -> Iterator[str]:
    for number, principal in enumerate(service.principals):
        is_meant = (
            principal.is_planned
            and office.plan.is_here(principal.person)
            and office.plan.is_holder(holder, principal.person)
        )
        if not is_meant or not principal.is_live:
            continue
        # Whoever may be in a group that is a member is not told to be missing.
        theirs = (*service.memberships(team, number), *service.perhaps_memberships(team, number))
        if not any(one.reply is Reply.ACCEPTED for one in theirs):
            yield principal.person


def _download_void(office: OfficeFacts) -> Iterator[Finding]:
    for _, team, address in _teams(office):
        facts = office.system(team.over.system) if team.over is not None else None
        if team.download or team.over is None or facts is None:
            continue
        row = facts.everyone.matrix.find_row(team.over.parts)
        if row is None:
            continue
        numbers = range(len(facts.principals))
        people = {facts.principals[n].person for n in numbers if facts.rights_at(row, [n]) & Right.READ}
        if people:
            some = sorted(people)
            evidence = (
                f"{len(some)} people can take its contents away by the share {team.over}: {', '.join(some[:_FEW])}"
            )
            yield Finding("download-void", address, evidence + (", …" if len(some) > _FEW else ""))


def _lives_too_long(office: OfficeFacts) -> Iterator[Finding]:
    for _, team, address in _teams(office):
        most = office.plan.sharing.rule_at(address, ()).folder_days
        if most is None or not team.is_on:
            continue
        # The rule is about the life from today on: when it began no service tells.
        left = (team.ends - office.today).days if team.ends else None
        if left is None or left > most:
            evidence = f"it is shared until {team.ends}" if team.ends else "its sharing never ends"
            yield Finding("team-lives-too-long", address, f"{evidence}; the rule is {most} days at most")


CHECKS = (
    Check(
        "download-void",
        Severity.HIGH,
        "download is off here, but a network share gives the files away",
        "narrow the share's list, or allow download and say so",
        _download_void,
    ),
    Check(
        "granted-not-published",
        Severity.LOW,
        "people have rights, but the team folder is switched off",
        "switch it on, or take the members out",
        _not_published,
    ),
    Check(
        "published-for-nobody",
        Severity.LOW,
        "the team folder has no members",
        "take members in, or switch it off",
        _granted_nobody,
    ),
    Check(
        "member-missing",
        Severity.MEDIUM,
        "a planned member is missing",
        "take them in, or correct the plan",
        _member_missing,
    ),
    Check(
        "team-lives-too-long",
        Severity.LOW,
        "the team folder is shared for longer than allowed",
        "give it an end",
        _lives_too_long,
    ),
)
