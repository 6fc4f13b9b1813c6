"""What a check is, what it may look at, and what it finds."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import UTC, date, datetime
from functools import cached_property
from typing import Protocol

import numpy as np
from numpy.typing import NDArray

from neatledger.core.access.bits import Bits, principal_bit
from neatledger.core.access.everyone import FLAG_RIGHTS, Everyone
from neatledger.core.access.ways import Access
from neatledger.core.checks.finding import ANYONE, Finding, Severity
from neatledger.core.lists.contract import ListView, Names
from neatledger.core.lists.holders import Holder
from neatledger.core.lists.rights import Right
from neatledger.core.people.homes import HomeMatch
from neatledger.core.people.principals import Principal
from neatledger.core.plan.plan import Kind, Plan
from neatledger.core.plan.space import BarredFiles
from neatledger.core.protection.found import FoundProtection
from neatledger.core.protection.standing import Standing
from neatledger.core.reviews.pack import Decision
from neatledger.core.sharing.judging import Breach, Offer
from neatledger.core.sharing.service import Service
from neatledger.core.space.limit_table import LimitStatus
from neatledger.core.space.promises import Promise
from neatledger.core.space.versions import KeptVersions
from neatledger.core.space.when import When
from neatledger.core.survey.accounts import Account, Group
from neatledger.core.trail.coverage import Gap
from neatledger.core.trail.signs.contract import Sign
from neatledger.core.tree.address import Address
from neatledger.core.tree.columns import NotSeen
from neatledger.core.tree.table import Table, folder_paths

__all__ = [
    "ANYONE",
    "Check",
    "Finding",
    "HomeUse",
    "OfficeFacts",
    "ProtectionFacts",
    "ReviewFacts",
    "ServiceFacts",
    "Severity",
    "SpaceFacts",
    "SystemFacts",
    "TrailFacts",
    "stranger",
]

Ints = NDArray[np.int64]


_ROWS_AT_ONCE = 65_536
_OFFERS = {"link": "link", "handed": "hand-out"}
"""The ways that single things open, and what these are called."""


def stranger(everyone_has: frozenset[str] = frozenset()) -> Principal:
    """Return the principal of someone with an account of their own and in no group: what everyone has."""
    account = Account("(everyone)", "", "")
    return Principal("(everyone)", "everyone", Kind.STAFF, "", account, Holder("", "", everyone_has), False)


@dataclass
class SystemFacts:
    """One system of a count, whole. The last principal of `everyone` is the stranger's.

    `explain` gives one person's access to a folder by its row, with reasons; `bodies` are its lists by number.
    """

    name: str
    everyone: Everyone
    accounts: Sequence[Account]
    groups: Sequence[Group]
    odd: Table
    collisions: Table
    homes: Sequence[HomeMatch]
    home_roots: Sequence[bytes]
    not_seen: Sequence[NotSeen]
    owner_name: Callable[[str], str]
    explain: Callable[[int, Principal], Access]
    names: Names
    is_service: bool = False
    bodies: Sequence[bytes] = ()

    def offer_behind(self, row: int, principals: Iterable[int], rights: Right) -> str:
        """Return the one link or hand-out that gives somebody rights on a folder, as causes name it; else nothing."""
        if not self.is_service or not rights:
            return ""
        ways = {
            (way.name, way.through)
            for number in principals
            for way in self.explain(row, self.principals[number]).ways
            if way.rights & rights
        }
        if len(ways) != 1:
            return ""
        ((name, through),) = ways
        return f"{_OFFERS[name]}:{through} on {self.name}" if name in _OFFERS else ""

    @property
    def folders(self) -> Table:
        """The table of folders."""
        return self.everyone.matrix.folders

    @property
    def principals(self) -> Sequence[Principal]:
        """The principals of real accounts."""
        return self.everyone.matrix.principals[:-1]

    @cached_property
    def order(self) -> Ints:
        """All folders in reading order."""
        return self.everyone.matrix.order.order

    def address(self, row: int) -> Address:
        """Return a folder's address."""
        return Address(self.name, self._path_of(row))

    @cached_property
    def _path_of(self) -> Callable[[int], bytes]:
        return folder_paths(self.folders)

    @cached_property
    def views(self) -> Mapping[int, ListView]:
        """What every list that a folder has grants, by the list's number."""
        matrix = self.everyone.matrix
        used = np.unique(self.folders["list"]).tolist()
        return {number: matrix.view(number, is_folder=True) for number in used}

    def named(self, view: ListView) -> tuple[dict[str, Right], dict[str, Right], list[str]]:
        """Return whom a list names: users, groups, and (in words) those that no account or group is.

        Where users and groups are not told apart by the list itself, the accounts and groups found tell.
        """
        users = {ident: rights for ident, rights in view.either.items() if ident in self._users}
        groups = {ident: rights for ident, rights in view.either.items() if ident in self._groups}
        strange = [f"user {ident}" for ident in view.users if ident not in self._users]
        strange += [f"group {ident}" for ident in view.groups if ident not in self._groups]
        strange += [ident for ident in view.either if ident not in self._users and ident not in self._groups]
        return view.users | users, view.groups | groups, strange

    @cached_property
    def _users(self) -> set[str]:
        return {account.ident for account in self.accounts}

    @cached_property
    def _groups(self) -> set[str]:
        return {group.ident for group in self.groups} | {account.primary for account in self.accounts}

    def is_known_owner(self, ident: str) -> bool:
        """Tell whether an owner is an account or, where groups may own, a group or known everywhere."""
        model = self.everyone.matrix.model
        is_group = model.groups_may_own and (ident in self._groups or ident in model.known)
        return not ident or ident in self._users or is_group

    @cached_property
    def list_tops(self) -> dict[int, list[int]]:
        """For each list the folders that have it while the folder above has another, in reading order."""
        lists, parent = self.folders["list"], self.folders["parent"]
        top = np.ones(self.folders.rows, dtype=bool)
        top[1:] = lists[1:] != lists[parent[1:]]
        found: dict[int, list[int]] = {}
        for row in self.order[top[self.order]].tolist():
            found.setdefault(int(lists[row]), []).append(row)
        return found

    def places(self, number: int) -> Iterator[tuple[int, str]]:
        """Yield the top folders that have a list; the first with how many have it in all."""
        count = int(self.list_counts[number])
        for place, row in enumerate(self.list_tops.get(number, ())):
            yield row, f" ({count:,} folders have this list)" if count > 1 and place == 0 else ""

    @staticmethod
    def of_principal(bits: Bits, principal: int) -> NDArray[np.bool_]:
        """Return one principal's bit of every row."""
        return principal_bit(bits, principal).astype(bool)

    def has_right(self, principal: int, right: Right) -> NDArray[np.bool_]:
        """Return of every folder whether a principal has a right on it, the ways of administrators left out."""
        if principal not in self._held:
            marks = {one: np.zeros(self.folders.rows, dtype=bool) for one in FLAG_RIGHTS}
            for rows in self.runs():
                for one, bits in self.everyone.matrix.block(rows).rights.items():
                    if one in marks:
                        marks[one][rows] = self.of_principal(bits, principal)
            self._held[principal] = marks
        return self._held[principal][right]

    @cached_property
    def _held(self) -> dict[int, dict[Right, NDArray[np.bool_]]]:
        return {}

    def runs(self) -> Iterator[Ints]:
        """Yield the rows of all folders, some at a time: memory follows them and not the tree."""
        for start in range(0, self.folders.rows, _ROWS_AT_ONCE):
            yield np.arange(start, min(start + _ROWS_AT_ONCE, self.folders.rows))

    def rights_at(self, row: int, principals: Sequence[int]) -> Right:
        """Return what some principals together have on a folder, the ways of administrators left out."""
        if row not in self._at:
            self._at[row] = self.everyone.matrix.block(np.array([row])).rights
        rights = Right.NONE
        for right, bits in self._at[row].items():
            if any(int(bits[0, principal >> 6]) >> (principal & 63) & 1 for principal in principals):
                rights |= right
        return rights

    @cached_property
    def _at(self) -> dict[int, Mapping[Right, Bits]]:
        return {}

    @cached_property
    def list_counts(self) -> NDArray[np.int64]:
        """How many folders have each list."""
        return np.bincount(self.folders["list"]).astype(np.int64)

    def tops_of(self, mask: NDArray[np.bool_]) -> list[int]:
        """Of the marked folders, return those whose folder above is not marked, in reading order."""
        parent = self.folders["parent"]
        top = mask.copy()
        top[1:] &= ~mask[parent[1:]]
        rows: list[int] = self.order[top[self.order]].tolist()
        return rows


@dataclass(frozen=True, slots=True)
class HomeUse:
    """One home with how many files it holds with all below it, and of how many bytes."""

    address: Address
    files: int
    size: int


@dataclass
class SpaceFacts:
    """The office's space. `bins` and `held` are bytes by system (None: not shown).

    `full_on` tells when a place is full; `twice` has folders with those that show the same tree and that the
    plan does not say are the same.
    """

    statuses: Sequence[LimitStatus]
    promises: Sequence[Promise]
    full_on: Callable[[LimitStatus], When]
    kept: Mapping[str, Sequence[KeptVersions]]
    bins: Mapping[str, int | None]
    held: Mapping[str, int]
    barred: Sequence[BarredFiles]
    homes: Sequence[HomeUse]
    twice: Sequence[tuple[Address, Address]]


@dataclass(frozen=True, slots=True)
class ServiceFacts:
    """One service: what it shares, and its links and hand-outs with what is not in order with each."""

    service: Service
    judged: Sequence[tuple[Offer, Sequence[Breach]]]


@dataclass(frozen=True, slots=True)
class ReviewFacts:
    """What was reviewed: the day of the last answer by folder, and the newest decision on each person there."""

    reviewed: Mapping[Address, date] = field(default_factory=dict)
    decisions: Sequence[Decision] = ()


@dataclass(frozen=True, slots=True)
class FormerAccount:
    """An account that an earlier count had, by its system, and the last day on which it was seen so."""

    system: str
    account: Account
    until: date


class SeenSign(Protocol):
    """One thing that looks wrong in the records, and who it was by the ledger's own name (empty: of nobody)."""

    @property
    def sign(self) -> Sign: ...
    @property
    def person(self) -> str: ...


@dataclass(frozen=True, slots=True)
class TrailFacts:
    """What the records of what was done show: signs of the last days, and by system what is missing.

    `last_read` has every system whose logs the plan names; None: they never told anything.
    """

    systems: Sequence[str] = ()
    signs: Sequence[SeenSign] = ()
    gaps: Sequence[tuple[str, Gap]] = ()
    last_read: Mapping[str, date | None] = field(default_factory=dict)


class ProtectedPlace(Protocol):
    """One place with its protection, and who could alter it with every copy that can be looked at."""

    @property
    def address(self) -> Address: ...
    @property
    def standing(self) -> Standing: ...
    @property
    def destroyers(self) -> Sequence[str]: ...
    @property
    def unreached(self) -> Sequence[str]: ...


@dataclass(frozen=True, slots=True)
class ProtectionFacts:
    """How places are protected, and what was found by system; `administrators` may alter everything anyhow.

    `unversioned` are the documents of systems of which the plan says that no old version of them is kept, where no
    snapshots are made of them; `less` says of systems what they keep less of than the plan says.
    """

    now: datetime
    places: Sequence[ProtectedPlace] = ()
    found: Mapping[str, FoundProtection] = field(default_factory=dict)
    administrators: frozenset[str] = frozenset()
    unversioned: Mapping[str, int] = field(default_factory=dict)
    less: Mapping[str, Sequence[str]] = field(default_factory=dict)


@dataclass
class OfficeFacts:
    """The whole office on both sides, as checks see it."""

    plan: Plan
    systems: Sequence[SystemFacts]
    today: date
    load_space: Callable[[], SpaceFacts]
    load_services: Callable[[], Sequence[ServiceFacts]]
    load_reviews: Callable[[], ReviewFacts] = ReviewFacts
    load_former: Callable[[], Sequence[FormerAccount]] = tuple
    load_trail: Callable[[], TrailFacts] = TrailFacts
    load_protection: Callable[[], ProtectionFacts] = lambda: ProtectionFacts(datetime.now(UTC))

    @cached_property
    def services(self) -> Sequence[ServiceFacts]:
        """What is shared, read when a check first asks."""
        return self.load_services()

    @cached_property
    def former(self) -> Sequence[FormerAccount]:
        """Accounts that earlier counts had under a login that is another's now, read when a check first asks."""
        return self.load_former()

    @cached_property
    def trail(self) -> TrailFacts:
        """What the records of what was done show, read when a check first asks."""
        return self.load_trail()

    @cached_property
    def protection(self) -> ProtectionFacts:
        """How places are protected, read when a check first asks."""
        return self.load_protection()

    @cached_property
    def reviews(self) -> ReviewFacts:
        """What was decided in reviews, read when a check first asks."""
        return self.load_reviews()

    def system(self, name: str) -> SystemFacts | None:
        """Return a system by its name."""
        return next((facts for facts in self.systems if facts.name == name), None)

    @cached_property
    def space(self) -> SpaceFacts:
        """The office's space, read when a check first asks."""
        return self.load_space()


@dataclass(frozen=True, slots=True)
class Check:
    """One check: its stable name, severity, what it finds, what to do then, and its rule."""

    name: str
    severity: Severity
    summary: str
    advice: str
    find: Callable[[OfficeFacts], Iterable[Finding]]
