"""People who have left: what is due after their last day, and was not done."""

from __future__ import annotations

from collections.abc import Iterator

from neatledger.core.checks.contract import Check, Finding, OfficeFacts, Severity, SystemFacts
from neatledger.core.lists.rights import Right
from neatledger.core.people.homes import HomeMatch
from neatledger.core.plan.plan import Kind, Person
from neatledger.core.posts.clocks import clocks_of
from neatledger.core.survey.shared import Reply
from neatledger.core.tree.address import Address

__all__ = ["CHECKS"]


def _leavers(office: OfficeFacts) -> Iterator[Person]:
    for person in office.plan.people.values():
        if person.end is not None and person.end < office.today and person.kind is not Kind.SERVICE:
            yield person


def _homes_of(office: OfficeFacts, person: Person) -> Iterator[tuple[SystemFacts, HomeMatch]]:
    """Yield the homes that are a leaver's alone."""
    for facts in office.systems:
        logins = person.accounts.get(facts.name, ())
        for home in facts.homes:
            if home.accounts and all(one.login in logins for one in home.accounts):
                yield facts, home


def _no_successor(office: OfficeFacts) -> Iterator[Finding]:
    for person in _leavers(office):
        there = [
            f"{facts.name}:{account.login}"
            for facts in office.systems
            for account in facts.accounts
            if account.login in person.accounts.get(facts.name, ())
        ]
        if there and not person.successor:
            evidence = f"{person.name} left on {person.end}, and the plan says nobody who takes over what they left"
            yield Finding("no-successor", there[0], evidence, people=(person.id,))


def _hand_over_past(office: OfficeFacts) -> Iterator[Finding]:
    for person in _leavers(office):
        assert person.end is not None
        until = clocks_of(office.plan, person.end).hand_over
        for facts, home in _homes_of(office, person) if until < office.today else ():
            row = facts.everyone.matrix.find_row(home.address.parts)
            heir = person.successors.get(home.address, person.successor)
            numbers = [number for number, one in enumerate(facts.principals) if one.person == heir and heir]
            if row is None or not numbers or any(facts.everyone.matrix.admins >> number & 1 for number in numbers):
                continue
            if facts.rights_at(row, numbers) & (Right.READ | Right.LIST):
                evidence = f"{heir} can still read it; the hand-over of {person.id} ended on {until}"
                yield Finding("hand-over-past", home.address, evidence, people=(heir,))


def _keeping_over(office: OfficeFacts) -> Iterator[Finding]:
    for person in _leavers(office):
        assert person.end is not None
        until = clocks_of(office.plan, person.end).keep
        for _, home in _homes_of(office, person) if until < office.today else ():
            evidence = f"{person.name} left on {person.end}; what they left was to be kept until {until}"
            yield Finding("keeping-over", home.address, evidence, people=(person.id,))


def _manager_gone(office: OfficeFacts) -> Iterator[Finding]:
    for facts in office.services:
        service = facts.service
        for team in service.shared.teams:
            managers = [
                service.principals[number]
                for member in team.members
                if member.rights & Right.MANAGE and member.reply is Reply.ACCEPTED
                for number in (*service.member_numbers(member), *service.perhaps_numbers(member))
            ]
            gone = [one for one in managers if not _is_here(office, one.person) or not one.is_live]
            if team.is_on and managers and len(gone) == len(managers):
                who = ", ".join(dict.fromkeys(one.person for one in gone))
                evidence = f"only {who} managed it, and is not here any more"
                yield Finding("manager-gone", Address(service.system, team.path), evidence)


def _is_here(office: OfficeFacts, person: str) -> bool:
    planned = office.plan.people.get(person)
    return planned is None or planned.is_here(office.today)


def _named_but_gone(office: OfficeFacts) -> Iterator[Finding]:
    """Find people who have left and whom the plan still asks or tells something."""
    gone = {person.id for person in _leavers(office)}
    for folder in office.plan.folders:
        for word, who in (("owns it", folder.owner), ("decides there in reviews", folder.decides)):
            if who in gone:
                yield Finding("asked-but-gone", folder.address, f"by the plan {who} {word}, and has left")
    for post in office.plan.posts.values():
        for who in post.tell:
            if who in gone:
                yield Finding("asked-but-gone", post.id, f"by the plan {who} is told of this post, and has left")


CHECKS = (
    Check(
        "no-successor",
        Severity.LOW,
        "has left, and nobody takes over",
        "say it in the plan: people: {ID: {successor: PERSON}}; leave PERSON shows what there is",
        _no_successor,
    ),
    Check(
        "hand-over-past",
        Severity.MEDIUM,
        "the hand-over has ended, but the successor can still read",
        "move what is still needed, and take the right back",
        _hand_over_past,
    ),
    Check(
        "keeping-over",
        Severity.LOW,
        "the home of somebody who left is kept longer than planned",
        "look through it once more, and remove it by hand",
        _keeping_over,
    ),
    Check(
        "manager-gone",
        Severity.HIGH,
        "its only managers have left",
        "let somebody who is here manage it",
        _manager_gone,
    ),
    Check(
        "asked-but-gone",
        Severity.LOW,
        "the plan still asks or tells somebody who has left",
        "name somebody who is here",
        _named_but_gone,
    ),
)
