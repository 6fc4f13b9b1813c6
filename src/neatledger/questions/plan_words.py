"""What the plan would have to say so that it agrees with what some steps make: else mend would take them back."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass, replace

from neatledger.core.access.differences import Difference
from neatledger.core.lists.rights import LEVEL_RIGHTS, Level, Right, level_of, spell_rights
from neatledger.core.plan.plan import Plan, PlanGroup
from neatledger.core.steps.accounts import AccountStep, WholeAccountStep
from neatledger.core.steps.contract import Step
from neatledger.core.steps.members import MemberStep
from neatledger.core.survey.accounts import AccountState
from neatledger.core.tree.address import Address
from neatledger.formats.names import show_address
from neatledger.questions import differences
from neatledger.questions.office import Office

__all__ = ["PlanWord", "ask"]


@dataclass(frozen=True, slots=True)
class PlanWord:
    """One thing to say in the plan: where (a group, or a folder), and what."""

    place: str
    text: str


def ask(office: Office, then: Office, steps: Sequence[Step]) -> list[PlanWord]:
    """Return what the plan would have to say of an office as steps leave it, beyond what it lacks today.

    Of folders that is told on which somebody would have more or less than the plan says, and does not today.
    """
    plan, found = _with_members(office, steps)
    closed = sorted(_closed(office, steps))
    found += [PlanWord(f"people, {person}", "their last day (end), or no account there") for person in closed]
    systems = {step.system for step in steps}
    now = {(one.person, one.address): one for one in _differing(office, systems)}
    new: list[Difference] = []
    for one in _differing(then.with_(plan=plan), systems):
        before = now.get((one.person, one.address))
        is_other = before is None or (before.missing, before.beyond) != (one.missing, one.beyond)
        if is_other and one.person not in closed:
            new.append(one)
    return [*found, *_of_folders(plan, new)]


def _differing(office: Office, systems: Iterable[str]) -> Iterator[Difference]:
    return (
        one for one in differences.ask(office)
        if one.address.system in systems and one.person in office.plan.people and (one.missing or one.beyond)
    )  # fmt: skip


def _closed(office: Office, steps: Sequence[Step]) -> set[str]:
    """Return the people of the plan who are here, and whose accounts some steps close."""
    logins = {
        (one.system, one.login)
        for one in steps
        if isinstance(one, AccountStep) and one.after is not AccountState.OPEN
    }
    logins |= {(one.system, one.target) for one in steps if isinstance(one, WholeAccountStep) and one.after is None}
    return {
        one.person
        for system, principals in office.principals.items()
        for one in principals
        if (system, one.account.login) in logins
        and one.person in office.plan.people
        and office.plan.is_here(one.person)
    }


def _with_members(office: Office, steps: Sequence[Step]) -> tuple[Plan, list[PlanWord]]:
    """Return the plan with the memberships of some steps, as far as it speaks of their groups, and its new words."""
    plan, found = office.plan, list[PlanWord]()
    for step in steps:
        if not isinstance(step, MemberStep):
            continue
        group = next(
            (one for name, one in plan.groups.items() if one.names.get(step.system, name) == step.name), None
        )
        member = _member_of(office, plan, step)
        if group is None or not member:
            continue
        if (member in plan.members[group.name] or member in group.members) == step.after:
            continue
        verb = "add" if step.after else "take out"
        given = "" if step.after or member in group.members else plan.why_given(member, group.name)
        found.append(
            PlanWord(f"groups, {group.name}", f"{verb} {member}" + (f" (there by {given})" if given else ""))
        )
        plan = _with_member(plan, group, member, is_in=step.after)
    return plan, found


def _with_member(plan: Plan, group: PlanGroup, member: str, *, is_in: bool) -> Plan:
    """Return a plan with a member put into a group, or taken out of it, whatever put them there."""
    members = tuple(one for one in group.members if one != member) + ((member,) if is_in else ())
    groups = {**plan.groups, group.name: replace(group, members=members)}
    person = plan.people.get(member)
    if is_in or person is None:
        return replace(plan, groups=groups)
    posts = tuple(held for held in person.posts if group.name not in plan.posts[held.post].groups)
    beyond = tuple(one for one in person.beyond if one.group != group.name)
    return replace(plan, groups=groups, people={**plan.people, member: replace(person, posts=posts, beyond=beyond)})


def _member_of(office: Office, plan: Plan, step: MemberStep) -> str:
    """Return what the plan calls a member: a person, or a group of its own; nothing where it has neither."""
    if step.is_group:
        name = step.member_name or step.member
        return next((key for key, one in plan.groups.items() if one.names.get(step.system, key) == name), "")
    principals = office.principals.get(step.system, ())
    person = next((one.person for one in principals if one.account.login == step.member), "")
    return person if person in plan.people else ""


def _of_folders(plan: Plan, new: Sequence[Difference]) -> Iterator[PlanWord]:
    """Yield what is to be said of folders, the upper ones first; what holds below one is not said again there."""
    said: set[tuple[str, Right, Right, Address]] = set()
    given: dict[tuple[Address, str], list[str]] = {}
    taken: dict[tuple[Address, str], list[str]] = {}
    for one in sorted(new, key=lambda each: (each.address.system, each.address.parts)):
        is_said = any(
            (one.person, one.missing, one.beyond) == key[:3] and one.address.is_within(key[3]) for key in said
        )
        said.add((one.person, one.missing, one.beyond, one.address))
        if is_said:
            continue
        if one.missing:
            holders = ", ".join(dict.fromkeys(holder for _, holder, _ in plan.rights_at(one.address, one.person)[1]))
            taken.setdefault((one.address, holders), []).append(one.person)
        else:
            given.setdefault((one.address, _level(one.found)), []).append(one.person)
    for (address, level), people in given.items():
        yield PlanWord(f"folders, {show_address(address)}", f"give {_named(plan, people, address, level)} {level}")
    for (address, holders), people in taken.items():
        text = f"{', '.join(people)} would not have what it gives to {holders}: take that out, or name who keeps it"
        yield PlanWord(f"folders, {show_address(address)}", text)


def _level(rights: Right) -> str:
    level = level_of(rights)
    return spell_rights(rights) if level is Level.MIXED else level.value


def _named(plan: Plan, people: Sequence[str], address: Address, level: str) -> str:
    """Return people as the plan would name them: by a group of them all, and of nobody who should not have it."""
    rights = LEVEL_RIGHTS.get(Level(level)) if level in {one.value for one in Level} else None
    if rights is None or len(people) < 2:
        return ", ".join(people)
    for name, members in plan.members.items():
        others = members - set(people)
        has_it = all(
            not rights & ~plan.rights_at(address, one)[0] or not plan.people[one].accounts.get(address.system)
            for one in others
        )
        if has_it and members >= set(people):
            return name
    return ", ".join(people)
