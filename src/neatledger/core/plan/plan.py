"""The plan: what the office means to have, as `office.yaml` says it."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from datetime import date
from enum import Enum
from functools import cached_property

from neatledger.core.lists.nesting import expand_members
from neatledger.core.lists.rights import LEVEL_RIGHTS, Level, Right
from neatledger.core.plan.notices import Notices
from neatledger.core.plan.posts import Beyond, HeldPost, Post
from neatledger.core.plan.protection import ProtectionPlan
from neatledger.core.plan.sharing import SharingPlan
from neatledger.core.plan.space import Entitlement, SpacePlan
from neatledger.core.tree.address import Address

__all__ = [
    "CLASSES",
    "Acceptance",
    "Bound",
    "Expectation",
    "Kind",
    "Person",
    "Plan",
    "PlanFolder",
    "PlanGroup",
    "PlanSystem",
    "Signer",
]


class Kind(Enum):
    """What an account or a person is for."""

    STAFF = "staff"
    GUEST = "guest"
    SERVICE = "service"
    ANYONE = "anyone"


CLASSES = {
    "everyone": None,
    "staff": Kind.STAFF,
    "guests": Kind.GUEST,
    "services": Kind.SERVICE,
    "anyone": Kind.ANYONE,
}
"""Holders that stand for all people, or all of a kind; `anyone` is whoever holds an open link."""


# Those who hold links nobody in particular was given (see `sharing.holders`).
_AUDIENCES = {"anyone with the link": Kind.ANYONE, "any guest": Kind.GUEST, "anyone in the office": Kind.STAFF}


@dataclass(frozen=True, slots=True)
class PlanSystem:
    """One system: where it is read from, its settings, where the homes are, and what people who decide call it."""

    name: str
    source: str
    settings: Mapping[str, object]
    homes: tuple[bytes, ...] = ()
    title: str = ""


@dataclass(frozen=True, slots=True)
class Person:
    """One person of the plan, with the logins of their accounts by system, and what they are in the office."""

    id: str
    name: str
    kind: Kind
    email: str = ""
    accounts: Mapping[str, tuple[str, ...]] = field(default_factory=dict)
    start: date | None = None
    end: date | None = None
    posts: tuple[HeldPost, ...] = ()
    beyond: tuple[Beyond, ...] = ()
    successor: str = ""
    successors: Mapping[Address, str] = field(default_factory=dict)

    def is_here(self, today: date) -> bool:
        """Tell whether `today` is within the person's dates (the last day included)."""
        # A last day is worked: accounts close after it.
        return (self.start is None or self.start <= today) and (self.end is None or today <= self.end)


@dataclass(frozen=True, slots=True)
class PlanGroup:
    """One group of the plan: people and groups in it, and what systems call it."""

    name: str
    members: tuple[str, ...]
    names: Mapping[str, str] = field(default_factory=dict)


@dataclass(frozen=True, slots=True)
class PlanFolder:
    """One folder of the plan: who holds which level there, and whether it inherits from above.

    `owner` may change its list; `decides` says in reviews who keeps what, where that is somebody else; `title` is
    what people who decide call it.
    """

    address: Address
    grants: Mapping[str, Level]
    closed: bool = False
    owner: str = ""
    line: int = 0
    decides: str = ""
    title: str = ""


class Bound(Enum):
    """How an expectation bounds what its holders may do."""

    AT_LEAST = "at-least"
    AT_MOST = "at-most"
    EXACTLY = "exactly"


@dataclass(frozen=True, slots=True)
class Expectation:
    """What must hold of a folder or a pattern of folders on the found side."""

    name: str
    system: str
    pattern: bytes
    bound: Bound
    level: Level
    holders: tuple[str, ...]
    line: int = 0


@dataclass(frozen=True, slots=True)
class Acceptance:
    """A finding that the office lives with, why, and until when."""

    check: str
    place: str
    reason: str
    until: date | None = None
    line: int = 0


@dataclass(frozen=True, slots=True)
class Signer:
    """Who may sign counts: the public key, as SSH writes it, the systems that it speaks for, and of which office."""

    key: str
    systems: tuple[str, ...]
    office: str


@dataclass(frozen=True)
class Plan:
    """The whole plan."""

    office: str
    domain: str
    systems: Mapping[str, PlanSystem]
    people: Mapping[str, Person]
    groups: Mapping[str, PlanGroup]
    folders: tuple[PlanFolder, ...]
    expectations: tuple[Expectation, ...]
    accepted: tuple[Acceptance, ...]
    settings: Mapping[str, int]
    today: date | None = None
    space: SpacePlan = field(default_factory=SpacePlan)
    sharing: SharingPlan = field(default_factory=SharingPlan)
    posts: Mapping[str, Post] = field(default_factory=dict)
    notices: Notices = field(default_factory=Notices)
    protection: ProtectionPlan = field(default_factory=ProtectionPlan)
    ledger: str = ""
    """The address of a database that is the ledger; empty: a file beside the plan."""
    signers: Mapping[str, Signer] = field(default_factory=dict)
    """Who may sign counts that are taken elsewhere, by a name."""
    workers: Mapping[str, str] = field(default_factory=dict)
    """By which files a cluster's scheduler is known (ca, certificate, key), and which is trusted without."""

    def is_here(self, person: str) -> bool:
        """Tell whether a person of the plan is within their dates today; who is not in the plan always is."""
        planned = self.people.get(person)
        return planned is None or self.today is None or planned.is_here(self.today)

    @cached_property
    def guarded(self) -> tuple[Address, ...]:
        """The folders that the plan calls sensitive, or closes to what lies above: each once."""
        closed = [one.address for one in self.folders if one.closed]
        return tuple(dict.fromkeys([*self.sharing.sensitive, *closed]))

    def title_of(self, folder: Address) -> str:
        """Return what people who decide call a folder; empty where the plan does not say it."""
        return next((one.title for one in self.folders if one.address == folder and one.title), "")

    def posts_of(self, person: str) -> list[HeldPost]:
        """Return the posts that a person of the plan holds today."""
        return [one for one in self.people[person].posts if one.is_held(self.today)]

    def is_entitled(self, entitlement: Entitlement, person: str) -> bool:
        """Tell whether something that was bought is for a person: as one of its holders, or by a post."""
        if any(self.is_holder(holder, person) for holder in entitlement.holders):
            return True
        held = self.posts_of(person) if person in self.people else []
        return any(entitlement.name in self.posts[one.post].entitlements for one in held)

    def why_given(self, person: str, group: str) -> str:
        """Return by what a person is in a group today who is not listed there: a post, or what is said beyond it."""
        for held in self.posts_of(person):
            if group in self.posts[held.post].groups:
                return f"post {held.post}"
        some = [one for one in self.people[person].beyond if one.group == group and not one.is_over(self.today)]
        return f"beyond: {some[0].because}" if some else ""

    @cached_property
    def members(self) -> dict[str, set[str]]:
        """Every group's people: those listed, those put there by a post or beyond it, and those of groups in it."""
        direct = {name: [m for m in group.members if m in self.people] for name, group in self.groups.items()}
        for ident, person in self.people.items():
            given = [name for held in self.posts_of(ident) for name in self.posts[held.post].groups]
            given += [one.group for one in person.beyond if one.group and not one.is_over(self.today)]
            for name in given:
                direct[name].append(ident)
        nested = {name: [m for m in group.members if m in self.groups] for name, group in self.groups.items()}
        return expand_members(direct, nested)

    @cached_property
    def groups_of(self) -> dict[str, list[str]]:
        """Every person's groups, nested ones included, in the plan's order."""
        found: dict[str, list[str]] = {person: [] for person in self.people}
        for group, members in self.members.items():
            for person in members:
                found[person].append(group)
        return found

    def is_holder(self, holder: str, person: str) -> bool:
        """Tell whether `holder` (a person, a group or a class) stands for `person`, or for all who hold a link."""
        if holder in CLASSES and person in _AUDIENCES:
            return CLASSES[holder] is _AUDIENCES[person] is not None
        if holder in CLASSES:
            kind = CLASSES[holder]
            return kind is None or (person in self.people and self.people[person].kind is kind)
        return holder == person or person in self.members.get(holder, ())

    def grants_at(self, address: Address) -> list[tuple[PlanFolder, str, Level]]:
        """Return the grants that reach a folder: its own and, until one is closed, those above it."""
        found: list[tuple[PlanFolder, str, Level]] = []
        above = sorted((f for f in self.folders if address.is_within(f.address)), key=lambda f: -len(f.address.parts))
        for folder in above:
            found += [(folder, holder, level) for holder, level in folder.grants.items()]
            if folder.owner:
                found.append((folder, folder.owner, Level.MANAGE))
            if folder.closed:
                break
        return found

    def decider_of(self, address: Address) -> str:
        """Return who decides in reviews about a folder: as the nearest folder says that names one, or nobody."""
        named = [one for one in self.folders if (one.decides or one.owner) and address.is_within(one.address)]
        nearest = max(named, key=lambda one: len(one.address.parts), default=None)
        return "" if nearest is None else nearest.decides or nearest.owner

    def rights_at(self, address: Address, person: str) -> tuple[Right, list[tuple[PlanFolder, str, Level]]]:
        """Return what the plan gives a person on a folder today, and the grants that give it."""
        if not self.is_here(person):
            return Right.NONE, []
        mine = [grant for grant in self.grants_at(address) if self.is_holder(grant[1], person)]
        rights = Right.NONE
        for _, _, level in mine:
            rights |= LEVEL_RIGHTS[level]
        return rights, mine
