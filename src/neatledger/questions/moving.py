"""Somebody changes posts: what goes, what comes, what stays although nobody asked, and the steps of each day."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from datetime import date, timedelta

import numpy as np

from neatledger.core.lists.rights import Level
from neatledger.core.lists.table import MODELS
from neatledger.core.plan.plan import Person
from neatledger.core.plan.posts import HeldPost, Post
from neatledger.core.posts.forms import Choice
from neatledger.core.tree.address import Address
from neatledger.core.tree.table import folder_paths
from neatledger.errors import StepError, UsageError
from neatledger.ledger.imagined import ImaginedReader
from neatledger.office.edit_people import put_move
from neatledger.questions.hanging import Hanging, hanging_on
from neatledger.questions.joining import LoginChooser, office_with, own_steps, reach_by_plan
from neatledger.questions.office import Office
from neatledger.questions.worklist import Worklist, ask_for_steps

__all__ = ["Change", "Moving", "ask"]

_STAYS = ("link", "handed out", "was handed", "device", "owned", "team folder")
"""What hangs on somebody and goes on whatever post they hold."""


@dataclass(frozen=True, slots=True)
class Change:
    """What the plan gives somebody on a folder before and after, and by whom each is meant."""

    address: Address
    before: Level
    after: Level
    by: str


@dataclass(frozen=True, slots=True)
class Moving:
    """All of it: the posts as they would be held, new logins, what goes, comes and stays, and the steps by day.

    `groups` are those before and after; `unlisted` are groups that list them by name as the ended posts gave it.
    """

    person: str
    name: str
    day: date
    posts: Sequence[HeldPost]
    choices: dict[str, Choice]
    changes: Sequence[Change]
    groups: tuple[Sequence[str], Sequence[str]]
    stays: Sequence[Hanging]
    work: Sequence[tuple[date, Worklist]]
    tell: Sequence[str]
    notes: Sequence[str]
    unlisted: Sequence[str]


def ask(office: Office, name: str, to: Sequence[str], day: date | None, overlap: date | None, because: str) -> Moving:
    """Return what it comes to that somebody holds other posts from a day on.

    Until the last day of an `overlap` they hold the old ones too. Raises `UsageError`, `UnknownNameError`,
    `StepError` or `PlanError`.
    """
    person, day = office.find_planned(name), day or office.today
    known, new = office.plan.people[person], [_post(office, one) for one in to]
    _check_days(office, person, day, overlap)
    before = day - timedelta(days=1)
    ends = max(before, overlap) if overlap else before
    posts, ended = _posts(known, new, day, ends)
    posts += [HeldPost(one.id, day, None, because) for one in new]
    chooser = LoginChooser(office)
    accounts = {
        system: chooser.choose(system, form, known.name)
        for one in new
        for system, form in one.accounts.items()
        if system not in known.accounts
    }
    unlisted = _listed_by_posts(office, person, ended, new)
    plan = put_move(office.folder, person, posts, accounts, unlisted, only_try=True)
    last = office_with(office, plan, max(ends + timedelta(days=1), day))
    first = office_with(office, plan, max(day, office.today))
    stays = [one for one in hanging_on(office, person) if one.what in _STAYS]
    stays += _named(office, last, person)
    old = [office.plan.posts[each.post] for each in ended]
    tell = list(dict.fromkeys(who for one in (*new, *old) for who in one.tell if who != person))
    groups = _groups(office, person), _groups(last, person)
    changes, work = _changes(office, last, person), _work(first, last, person)
    return Moving(
        *(person, known.name, day, posts, chooser.choices, changes, groups, stays, work, tell),
        notes=chooser.notes,
        unlisted=unlisted,
    )


def _posts(known: Person, new: Sequence[Post], day: date, ends: date) -> tuple[list[HeldPost], list[HeldPost]]:
    """Return the posts that somebody held, ended where they go on now, and these ended ones."""
    posts: list[HeldPost] = []
    ended: list[HeldPost] = []
    for held in known.posts:
        if held.post in {one.id for one in new} and (held.until is None or held.until >= day):
            raise StepError("they hold this post already", f"{known.id}: {held.post}", "its days are in office.yaml")
        is_over = held.until is not None and held.until <= ends
        # What begins later is no part of this move.
        if is_over or (held.start is not None and held.start >= day):
            posts.append(held)
        else:
            ended.append(replace(held, until=ends))
            posts.append(ended[-1])
    return posts, ended


def _changes(office: Office, last: Office, person: str) -> list[Change]:
    """Return what the plan gives somebody otherwise, folder by folder."""
    old = {one.address: one for one in reach_by_plan(office.plan, person)}
    now = {one.address: one for one in reach_by_plan(last.plan, person)}
    found = []
    for address in dict.fromkeys([*old, *now]):
        before, after = (some[address].level if address in some else Level.NONE for some in (old, now))
        if before is not after:
            found.append(Change(address, before, after, (now.get(address) or old[address]).by))
    return found


def _post(office: Office, name: str) -> Post:
    return office.plan.posts[office.find_post(name)]


def _check_days(office: Office, person: str, day: date, overlap: date | None) -> None:
    known = office.plan.people[person]
    if overlap is not None and overlap < day:
        raise UsageError(f"the overlap ends on {overlap}, before the move on {day}")
    if known.end is not None and day > known.end:
        raise UsageError(f"{person} leaves on {known.end}, before the move on {day}")
    if known.start is not None and day < known.start:
        raise UsageError(f"{person} starts on {known.start}, after the move on {day}")


def _listed_by_posts(office: Office, person: str, ended: Sequence[HeldPost], new: Sequence[Post]) -> list[str]:
    """Return the groups of ended posts that list somebody by name too: with the post that goes as well."""
    plan = office.plan
    gone = {name for held in ended for name in plan.posts[held.post].groups}
    kept = {name for one in new for name in one.groups} | {one.group for one in plan.people[person].beyond}
    return [name for name in plan.groups if name in gone - kept and person in plan.groups[name].members]


def _groups(office: Office, person: str) -> list[str]:
    return [name for name in office.plan.groups if person in office.plan.members[name]]


def _named(office: Office, last: Office, person: str) -> Iterator[Hanging]:
    """Yield what the plan and the lists still give somebody by name."""
    for folder in last.plan.folders:
        if person in folder.grants:
            yield Hanging("granted by name", folder.address, f"{folder.grants[person].value}, by the plan")
    held = {name for one in last.plan.posts_of(person) for name in last.plan.posts[one.post].groups}
    for name, group in last.plan.groups.items():
        if person in group.members and name not in held:
            yield Hanging("listed by name", f"group {name}", "by the plan, whatever post they hold")
    for system, some in office.principals.items():
        idents = {one.account.ident: one.account.login for one in some if one.person == person}
        yield from _entries(ImaginedReader(office.readers[system]), idents)


def _entries(state: ImaginedReader, idents: dict[str, str]) -> Iterator[Hanging]:
    """Yield how many lists of a system name one of some accounts, and the first of these folders."""
    naming = {}
    for number, body in enumerate(state.strings("lists.body")):
        view = MODELS[state.model].parse(body).view(is_folder=True)
        if idents.keys() & {*view.users, *view.either}:
            naming[number] = body
    if not naming:
        return
    table = state.table("folders")
    owners = state.idents()
    path_of = folder_paths(table)
    rows = [
        row
        for row in np.flatnonzero(np.isin(table["list"], list(naming))).tolist()
        if owners[int(table["owner"][row])] not in idents
    ]
    if rows:
        more = f", and {len(rows) - 1} more folders" if len(rows) > 1 else ""
        yield Hanging("named in lists", Address(state.system, path_of(rows[0])), f"an entry for them alone{more}")


def _work(first: Office, last: Office, person: str) -> list[tuple[date, Worklist]]:
    """Return the steps of the first day, and of the day after the overlap where that is another one."""
    steps, _ = own_steps(first, person)
    found = [(first.today, ask_for_steps(first, steps))]
    if last.today > first.today:
        more, _ = own_steps(last, person)
        later = [one for one in more if one not in steps]
        found.append((last.today, ask_for_steps(last, later)))
    return found
