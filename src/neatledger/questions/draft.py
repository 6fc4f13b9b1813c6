"""The plan drafted from what was found, part by part; and what of it is rather a question."""

from __future__ import annotations

import re
from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass, field

from neatledger.core.access.everyone import Everyone
from neatledger.core.drafting.folders import DraftFolder, Question, draft_folders
from neatledger.core.drafting.groups import DraftGroup, FoundGroup, draft_groups
from neatledger.core.drafting.limits import DraftLimits
from neatledger.core.drafting.people import DraftPerson, draft_people
from neatledger.core.drafting.sharing import DraftRules
from neatledger.core.people.matching import propose
from neatledger.core.people.principals import Principal
from neatledger.core.plan.plan import Kind
from neatledger.core.tree.address import Address
from neatledger.questions import splitting
from neatledger.questions.drafting_rules import draft_limits, draft_pools, draft_sharing
from neatledger.questions.office import Office
from neatledger.questions.splitting import PlacedGroup

__all__ = ["PARTS", "Draft", "ask", "homes_like"]

PARTS = ("people", "groups", "folders", "homes", "bands", "sharing", "protection")
"""What may be drafted by itself."""
_MOST_DEPTH, _LEAST_HOMES = 2, 3


@dataclass
class Draft:
    """What would be added to the plan, and what a person must answer."""

    people: list[DraftPerson] = field(default_factory=list)
    groups: list[DraftGroup] = field(default_factory=list)
    folders: list[DraftFolder] = field(default_factory=list)
    homes: dict[str, list[bytes]] = field(default_factory=dict)
    limits: DraftLimits = field(default_factory=DraftLimits)
    pools: dict[str, tuple[str, ...]] = field(default_factory=dict)
    rules: dict[str, DraftRules] = field(default_factory=dict)
    split: Sequence[PlacedGroup] = ()
    questions: list[Question] = field(default_factory=list)


def ask(office: Office, only: Collection[str] = PARTS) -> Draft:
    """Return the draft of what the plan does not say yet."""
    plan = office.plan
    found = Draft()
    everybody = [one for some in office.principals.values() for one in some]
    free = _without_known(office, everybody, found)
    people, doubts = draft_people(free, [*plan.people, *plan.groups])
    has_left = {one.id for one in people if all(not each.is_live for each in one.principals)}
    for one in people:
        if one.id in has_left:
            text = f"{one.name}: no account is open: has somebody left?"
            found.questions.append(Question(", ".join(_accounts(one)), text))
    found.people = [one for one in people if one.id not in has_left]
    for one in found.people:
        if _is_rather_a_thing(one.name):
            text = f"{one.name}: a person, or a device? (kind: service)"
            found.questions.append(Question(", ".join(_accounts(one)), text))
    for doubt in doubts:
        pair = " and ".join(f"{each.system}:{each.account.login}" for each in (doubt.one, doubt.other))
        found.questions.append(Question(pair, f"one person's? {doubt.because}"))
    ids = {(each.system, each.account.login): one.id for one in found.people for each in one.principals}
    ids |= {(one.system, one.account.login): one.person for one in everybody if one.is_planned}
    found.groups = draft_groups(_groups(office, ids), plan.systems, [*plan.people, *plan.groups, *ids.values()])
    for system in office.readers:
        _of_system(office, system, ids, found)
    _of_space_and_sharing(office, ids, found)
    if "protection" in only:
        parts = splitting.ask(office)
        found.split = parts.groups
        found.questions += parts.questions
    _keep_only(found, only)
    return found


def _accounts(one: DraftPerson) -> list[str]:
    return [f"{each.system}:{each.account.login}" for each in one.principals]


def _without_known(office: Office, everybody: Sequence[Principal], found: Draft) -> list[Principal]:
    """Return the accounts but for those that may be a person's whom the plan has: `match` is for these."""
    theirs: set[tuple[str, str]] = set()
    for one in propose(office.plan, office.principals):
        known = [name for name in one.candidates if ":" not in name]
        if known:
            theirs.add((one.system, one.account.login))
            first = f"is it the account of {' or '.join(known)}? {one.because} (people --match)"
            found.questions.append(Question(f"{one.system}:{one.account.login}", first))
    return [one for one in everybody if (one.system, one.account.login) not in theirs]


_OF_NAMES = re.compile(
    "af|al|av|ben|bin|da|dal|de|dei|del|den|der|di|do|dos|du|el|la|las|le|les|los|of|op|san|ten|ter|the|van|vom|von"
    "|y|zu|zum|zur"
)
"""Small words that stand in people's names."""


def _is_rather_a_thing(name: str) -> bool:
    """Tell whether a name reads as what something is, and not as what somebody is called."""
    words = name.split()
    plain = [word for word in words if word.isalpha() and word.islower() and not _OF_NAMES.fullmatch(word)]
    return len(words) > 1 and bool(plain) and not name.islower()


def _of_space_and_sharing(office: Office, ids: Mapping[tuple[str, str], str], found: Draft) -> None:
    groups = {(one.system, one.name): group.name for group in found.groups for one in group.found}
    groups |= {
        (system, group.names.get(system, name)): name
        for name, group in office.plan.groups.items()
        for system in office.readers
    }
    homes = {system: one.homes for system, one in office.plan.systems.items()} | found.homes
    found.limits = draft_limits(office, ids, groups, homes)
    found.pools = draft_pools(office)
    found.rules = draft_sharing(office, ids)
    found.questions += found.limits.questions
    for rules in found.rules.values():
        found.questions += rules.questions


def _keep_only(found: Draft, only: Collection[str]) -> None:
    """Leave of a draft the parts that are asked for; questions are told of all."""
    for part in set(PARTS) - set(only):
        match part:
            case "bands":
                found.limits, found.pools = DraftLimits(), {}
            case "sharing":
                found.rules = {}
            case "protection":
                found.split = ()
            case "homes":
                found.homes = {}
            case _:
                setattr(found, part, [])


def _groups(office: Office, ids: Mapping[tuple[str, str], str]) -> list[FoundGroup]:
    """Return the groups that the plan does not name, with the people in them; one person's own are left out."""
    known = {
        (system, one.names.get(system, name)) for name, one in office.plan.groups.items() for system in office.readers
    }
    found = []
    for system, reader in office.readers.items():
        inside: dict[str, set[str]] = {}
        for one in office.principals[system]:
            person = ids.get((system, one.account.login))
            for ident in one.holder.groups if person else ():
                inside.setdefault(ident, set()).add(person or "")
        for group in reader.groups:
            people = inside.get(group.ident, set())
            is_own = any(group.name == one.login for one in reader.accounts) and len(people) < 2
            if len(people) > 1 and not is_own and (system, group.name) not in known:
                found.append(FoundGroup(system, group.ident, group.name, frozenset(people)))
    return found


def _of_system(office: Office, system: str, ids: Mapping[tuple[str, str], str], found: Draft) -> None:
    principals = office.systems.holders[system]
    if not principals:
        return
    everyone = office.systems.everyone(system, principals, is_narrow=True)
    people: dict[str, list[int]] = {}
    shut: set[str] = set()
    for numbers in everyone.ordinary(enumerate(everyone.matrix.principals)).values():
        for number in numbers:
            one = everyone.matrix.principals[number]
            person = ids.get((system, one.account.login))
            if person is not None and one.kind is not Kind.SERVICE:
                people.setdefault(person, []).append(number)
                shut |= set() if one.may_come_in else {person}
    # Whose account may not be used there has nothing, whatever is meant for them: they say nothing of a group.
    shut -= {
        person for person, mine in people.items() if any(everyone.matrix.principals[n].may_come_in for n in mine)
    }
    people = {person: mine for person, mine in people.items() if person not in shut}
    for person in sorted(shut):
        found.questions.append(Question(f"{system}: {person}", "the account is closed there; is that meant?"))
    if not people:
        # Whose accounts these are is asked first: without people nothing can be granted.
        return
    planned = office.plan.systems.get(system)
    homes = list(planned.homes) if planned is not None else []
    if not homes:
        homes = homes_like(everyone, [one.account.login for one in principals])
        if homes:
            found.homes[system] = homes
    named = {one.ident: group.name for group in found.groups for one in group.found if one.system == system}
    groups = {
        group.name: frozenset(group.people)
        for group in found.groups
        if any(one.system == system for one in group.found)
    }
    groups |= {name: frozenset(office.plan.members[name]) & frozenset(people) for name in office.plan.groups}
    here = frozenset(people)
    groups = {name: some & here for name, some in groups.items() if some & here}
    groups["everyone"] = here
    lists: dict[int, list[str]] = {}

    def hints_of(row: int) -> Sequence[str]:
        number = int(everyone.matrix.folders["list"][row])
        if number not in lists:
            view = everyone.matrix.view(number, is_folder=True)
            idents = [*view.groups, *view.either]
            lists[number] = [named[ident] for ident in idents if ident in named] + (
                ["everyone"] if view.everyone else []
            )
        return lists[number]

    known = {one.address for one in office.plan.folders}
    aside = [Address(system, path).parts for path in homes]
    drafted = draft_folders(system, everyone, people, groups, hints_of, aside)
    found.folders += [one for one in drafted.folders if one.address not in known]
    found.questions += [one for one in drafted.questions if one.place not in known]


def homes_like(everyone: Everyone, logins: Sequence[str]) -> list[bytes]:
    """Return the folders in which most folders are called as accounts are: homes lie there."""
    folders = everyone.matrix.folders
    names, wanted = list(folders.texts("name")), {one.encode() for one in logins}
    inside: dict[int, list[int]] = {}
    levels = everyone.matrix.order.levels
    for first, last in levels[1 : _MOST_DEPTH + 2]:
        for row in range(first, last):
            inside.setdefault(int(folders["parent"][row]), []).append(row)
    found = []
    for above, rows in inside.items():
        fitting = sum(names[row] in wanted for row in rows)
        if fitting >= _LEAST_HOMES and 2 * fitting >= len(rows):
            path = b""
            row = above
            while row > 0:
                path = b"/" + names[row] + path
                row = int(folders["parent"][row])
            found.append(path or b"/")
    return found
