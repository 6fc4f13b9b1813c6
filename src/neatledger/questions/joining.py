"""Somebody starts: what the plan would say of them, the logins that are free, what they will reach, and the steps."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import date
from types import MappingProxyType

from neatledger.core.lists.rights import Level, level_of
from neatledger.core.plan.plan import CLASSES, Plan
from neatledger.core.plan.posts import HeldPost, Post
from neatledger.core.posts.forms import Choice, choose_login, fill_form, guess_form, plain_letters
from neatledger.core.space.promises import Promise
from neatledger.core.steps.accounts import AccountStep, WholeAccountStep
from neatledger.core.steps.contract import Step
from neatledger.core.steps.folders import FolderStep
from neatledger.core.steps.groups import GroupStep
from neatledger.core.steps.members import MemberStep
from neatledger.core.tree.address import Address
from neatledger.core.tree.patterns import match_path
from neatledger.errors import StepError, UsageError
from neatledger.office.addresses import parse_address
from neatledger.office.edit_people import Arrival, add_person
from neatledger.questions import suppose_space
from neatledger.questions.mending import find_mending
from neatledger.questions.office import Office
from neatledger.questions.starting import former_accounts
from neatledger.questions.worklist import Worklist, ask_for_steps

__all__ = ["Joining", "LoginChooser", "Newcomer", "Reach", "ask", "office_with", "own_steps", "reach_by_plan"]


@dataclass(frozen=True, slots=True)
class Newcomer:
    """Who starts, as the call says it: as what (`posts`, or `like` somebody), from when until when, by which names.

    `logins` are by system, where the form's own is not wanted.
    """

    name: str
    posts: Sequence[str] = ()
    like: str = ""
    id: str = ""
    email: str = ""
    start: date | None = None
    end: date | None = None
    logins: Mapping[str, str] = field(default_factory=dict)


@dataclass(frozen=True, slots=True)
class Reach:
    """A folder of the plan that somebody reaches by it: with which level, by which holders, and the plan's line."""

    address: Address
    level: Level
    by: str
    line: int


@dataclass(frozen=True, slots=True)
class Joining:
    """All of it: the words of the plan, each login with why, what is reached, the first day's steps, what to mind.

    `then` is the office with the plan as it would read, on that day; `tell` are who is told.
    """

    arrival: Arrival
    choices: Mapping[str, Choice]
    home: Address | None
    day: date
    then: Office
    reach: Sequence[Reach]
    work: Worklist
    promises: Sequence[tuple[Promise, Promise]]
    tell: Sequence[str]
    notes: Sequence[str]


def ask(office: Office, newcomer: Newcomer) -> Joining:
    """Return what it comes to that somebody starts.

    Raises `UsageError`, `UnknownNameError`, `StepError`, or `PlanError` where the plan would not do.
    """
    maker = _Maker(office, newcomer)
    arrival = maker.arrival()
    day = max(newcomer.start or office.today, office.today)
    then = office_with(office, add_person(office.folder, arrival, only_try=True), day)
    steps, left = own_steps(then, arrival.id)
    work = ask_for_steps(then, steps)
    tell = dict.fromkeys(who for post in maker.posts for who in post.tell)
    reach = list(reach_by_plan(then.plan, arrival.id))
    home = parse_address(arrival.home) if arrival.home else None
    promised = _promised(office, home)
    notes = [*maker.notes, *maker.chooser.notes, *_of_space(promised)]
    person = then.plan.people[arrival.id]
    elsewhere = sorted({one.address.system for one in reach} - person.accounts.keys())
    if elsewhere:
        notes.append(f"{', '.join(elsewhere)}: the plan gives them folders there, and none of their posts an account")
    reach = [one for one in reach if one.address.system in person.accounts]
    if left:
        notes.append(f"{left} more steps would be needed since lists there are not as the plan says: mend shows them")
    return Joining(arrival, maker.chooser.choices, home, day, then, reach, work, promised, list(tell), notes)


_OF_A_PERSON = (GroupStep, WholeAccountStep, AccountStep, FolderStep, MemberStep)


def own_steps(office: Office, person: str) -> tuple[list[Step], int]:
    """Return the steps that are about somebody alone, and how many others the plan asks for besides."""
    found = find_mending(office, None, {person}).steps
    mine: list[Step] = [one for one in found if isinstance(one, _OF_A_PERSON)]
    return mine, len(found) - len(mine)


def office_with(office: Office, plan: Plan, day: date) -> Office:
    """Return an office as it was found, with another plan, asked on another day."""
    return office.with_(plan=plan, day=day)


def reach_by_plan(plan: Plan, person: str) -> Iterator[Reach]:
    """Yield what the plan gives somebody on each of its folders, and by whom that was meant."""
    for folder in plan.folders:
        rights, grants = plan.rights_at(folder.address, person)
        if rights:
            holders = dict.fromkeys(holder for _, holder, _ in grants)
            by = ", ".join(_by(plan, person, holder) for holder in holders)
            yield Reach(folder.address, level_of(rights), by, grants[0][0].line)


def _by(plan: Plan, person: str, holder: str) -> str:
    if holder in CLASSES or holder == person:
        return holder
    why = plan.why_given(person, holder)
    return f"{holder} ({why})" if why else holder


def _promised(office: Office, home: Address | None) -> list[tuple[Promise, Promise]]:
    """Return of each pool that one more person changes what is promised of it today and then."""
    if home is None or home.system not in office.readers:
        return []
    try:
        found = suppose_space.ask(office, suppose_space.Supposition(joining=((home.system, 1),)))
    except UsageError:
        return []
    before, after = found.promises
    known = {one.pool: one for one in before}
    return [(known[one.pool], one) for one in after if one.pool in known and one != known[one.pool]]


def _of_space(promised: Sequence[tuple[Promise, Promise]]) -> Iterator[str]:
    for _, after in promised:
        if after.size is not None and after.used > after.size:
            yield f"the disk {after.pool} would be full: there is no space for their home"


class LoginChooser:
    """Chooses logins that are free, and notes what is to be minded of each."""

    def __init__(self, office: Office, said: Mapping[str, str] = MappingProxyType({})) -> None:
        self.office, self.plan, self._said = office, office.plan, said
        self.choices: dict[str, Choice] = {}
        self.notes: list[str] = []

    def choose(self, system: str, form: str, name: str) -> str:
        """Return a login on a system; raises `StepError` where the one that is wanted is somebody's."""
        taken = self._taken(system)
        said = self._said.get(system, "")
        if said:
            whose = {one.casefold(): other for one, other in taken.items()}.get(said.casefold())
            if whose:
                raise StepError(f"the login is {whose}", f"{system}:{said}", "--login: another one")
            self.choices[system] = Choice(said, said)
            return said
        choice = choose_login(form, name, taken)
        if choice is None:
            raise StepError(f"no login can be made of {name!r}", system, f"--login {system}=LOGIN")
        self.choices[system] = choice
        if not choice.is_first:
            self.notes.append(f"{system}: {choice.first_choice} is {choice.taken_by}, so {choice.login}")
        if choice.near:
            whose = ", ".join(f"{one} ({taken[one]})" for one in choice.near)
            self.notes.append(f"{system}: {choice.login} looks much like {whose}")
        return choice.login

    def _taken(self, system: str) -> dict[str, str]:
        """Return every login that somebody has on a system, had there once, or is meant to have, with whose it is."""
        found: dict[str, str] = {}
        if system in self.office.readers:
            there = {one.login for one in self.office.readers[system].accounts}
            for login, account in former_accounts(self.office, system).items():
                word = "" if login in there else "formerly "
                found[login] = f"{word}{account.name or 'another account'}'s"
        for person in self.plan.people.values():
            for login in person.accounts.get(system, ()):
                found.setdefault(login, f"{person.name}'s in the plan")
        # Home folders of people who are gone have their logins for names.
        planned = self.plan.systems.get(system)
        reader = self.office.readers.get(system)
        for path in planned.homes if planned and reader else ():
            assert reader is not None
            folders, missing = reader.find_path(path)
            for name in reader.child_names(folders[-1]) if missing is None else ():
                found.setdefault(name, "the name of a home that is there")
        return found


class _Maker:
    """Works out what the plan would say of somebody who starts."""

    def __init__(self, office: Office, newcomer: Newcomer) -> None:
        self.office, self.plan, self.newcomer = office, office.plan, newcomer
        self.notes: list[str] = []
        self.chooser = LoginChooser(office, newcomer.logins)
        self.model = self._model()
        names = newcomer.posts or [held.post for held in self._posts_of_model()]
        self.posts = [self._post(name) for name in names]
        if not self.posts and not self.model:
            raise UsageError("nothing says what they will be", hint="--post POST, or --like PERSON")
        if newcomer.start and newcomer.end and newcomer.end < newcomer.start:
            raise UsageError(f"the last day, {newcomer.end}, is before the first, {newcomer.start}")
        if newcomer.end and newcomer.end < office.today:
            raise UsageError(f"the last day, {newcomer.end}, has passed")

    def _model(self) -> str:
        if not self.newcomer.like:
            return ""
        return self.office.find_planned(self.newcomer.like)

    def _posts_of_model(self) -> list[HeldPost]:
        return self.plan.posts_of(self.model) if self.model else []

    def _post(self, name: str) -> Post:
        return self.plan.posts[self.office.find_post(name)]

    def arrival(self) -> Arrival:
        """Return what would be added to the plan."""
        name = " ".join(self.newcomer.name.split())
        if not plain_letters(name):
            raise UsageError(f"{name!r} has no letter that a login can have", hint="say --id and --login")
        ident = self._ident(name)
        alike = [one.id for one in self.plan.people.values() if one.name.casefold() == name.casefold()]
        if alike:
            self.notes.append(f"the plan has somebody of this name already: {', '.join(alike)}")
        words: dict[str, object] = {"name": name}
        email = self.newcomer.email or next((fill_form(one.email, name) for one in self.posts if one.email), "")
        if email:
            words["email"] = self._email(email, name)
        words["accounts"] = {
            system: self.chooser.choose(system, form, name) for system, form in self._forms().items()
        }
        posts = [one.id for one in self.posts]
        words |= {"posts": tuple(posts)} if posts else {}
        words |= {"start": self.newcomer.start} if self.newcomer.start else {}
        words |= {"end": self.newcomer.end} if self.newcomer.end else {}
        home, band = self._home(name, words["accounts"])
        comment = f"joined as {self.model}" if self.model else ""
        return Arrival(ident, words, self._listed(), home, band, comment)

    def _ident(self, name: str) -> str:
        taken = {one.casefold() for one in (*self.plan.people, *self.plan.groups, *self.plan.posts, *CLASSES)}
        if self.newcomer.id:
            if self.newcomer.id.casefold() in taken:
                raise StepError("the plan has this name already", self.newcomer.id, "--id: another one")
            return self.newcomer.id
        words = [plain_letters(word) for word in name.split() if plain_letters(word)]
        tried = [words[-1], f"{words[0]}-{words[-1]}", *(f"{words[-1]}-{number}" for number in range(2, 1000))]
        return next(one for one in tried if one not in taken)

    def _email(self, email: str, name: str) -> str:
        """Return an address that nobody has: the one asked for, or that of the whole name, or else the first."""
        domain = email.partition("@")[2]
        tried = [email] if self.newcomer.email else [email, fill_form(f"{{first}}.{{last}}@{domain}", name)]
        for one in tried:
            whose = self._whose_email(one)
            if not whose:
                if one != email:
                    self.notes.append(f"the address {email} is {', '.join(self._whose_email(email))}'s, so {one}")
                return one
        self.notes.append(
            f"the address {email} is {', '.join(self._whose_email(email))}'s: say another one with --email"
        )
        return email

    def _whose_email(self, email: str) -> list[str]:
        folded = email.casefold()
        found = [one.id for one in self.plan.people.values() if one.email.casefold() == folded]
        accounts = [one for some in self.office.principals.values() for one in some if not one.is_planned]
        return found + [
            f"{one.system}:{one.account.login}" for one in accounts if one.account.email.casefold() == folded
        ]

    def _forms(self) -> dict[str, str]:
        """Return the systems with an account, and the form of the login on each."""
        found: dict[str, str] = {}
        for post in self.posts:
            for system, form in post.accounts.items():
                found.setdefault(system, form)
        if self.model:
            person = self.plan.people[self.model]
            for system, logins in person.accounts.items():
                found.setdefault(system, guess_form(logins[0], person.name))
        for system in self.newcomer.logins:
            found.setdefault(self.office.find_system(system), "{first initial}{last}")
        return found

    def _listed(self) -> list[str]:
        """Return the groups that list somebody as whom this one starts, and no post gives."""
        if not self.model:
            return []
        given = {name for post in self.posts for name in post.groups}
        beyond = {one.group for one in self.plan.people[self.model].beyond}
        return [
            name
            for name, group in self.plan.groups.items()
            if self.model in group.members and name not in given and name not in beyond
        ]

    def _home(self, name: str, accounts: object) -> tuple[str, str]:
        """Return the home's address, and the band that the plan must say of it (empty: it says one already)."""
        assert isinstance(accounts, dict)
        for post in self.posts:
            if post.home:
                login = accounts.get(post.home.partition(":")[0], "")
                home = fill_form(post.home, name, login)
                address = parse_address(home)
                patterns = [parse_address(one.key) for one in self.plan.space.limits if one.on.value == "folder"]
                said = any(one.system == address.system and match_path(one.path, address.path) for one in patterns)
                return home, "" if said else post.band
        return "", ""
