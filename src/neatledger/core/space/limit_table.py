"""Used, allowed, left: every limited place of a system with the plan's limit and the system's beside each other."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import date
from functools import partial
from typing import Protocol

from neatledger.core.people.principals import Principal
from neatledger.core.plan.limits import UNLIMITED, Limit, On, PlacedLimit, Pool, Settings, Unlimited
from neatledger.core.plan.plan import CLASSES, Plan
from neatledger.core.plan.space import Entitlement, SpaceRules
from neatledger.core.survey.accounts import Group
from neatledger.core.survey.limits import FoundLimit
from neatledger.core.tree.address import Address
from neatledger.core.tree.patterns import match_path

__all__ = [
    "LimitStatus",
    "LimitTarget",
    "PoolFolders",
    "SystemSpace",
    "build_limit_table",
    "entitled_space",
    "folders_in_pool",
    "held_by_sums",
    "join_pools",
    "pool_of",
    "pool_statuses",
    "pools_of",
]


@dataclass(frozen=True, slots=True)
class PoolFolders:
    """The folders of one system that lie in a pool: the tops of what it `holds`, and of what others have in these."""

    holds: tuple[Address, ...]
    without: tuple[Address, ...]


class SystemSpace(Protocol):
    """What is asked of one system; figures are bytes in the measure that its limits are put to.

    `found` are the limits that the system tells, its pools among them; `tells` of which sorts it tells.
    """

    @property
    def name(self) -> str: ...
    @property
    def rules(self) -> SpaceRules: ...
    @property
    def principals(self) -> Sequence[Principal]: ...
    @property
    def groups(self) -> Sequence[Group]: ...
    @property
    def found(self) -> Sequence[FoundLimit]: ...
    @property
    def tells(self) -> frozenset[On]: ...

    def used_in(self, path: bytes) -> int | None:
        """Return what a folder holds with all below it, None where there is none."""

    def is_elsewhere(self, path: bytes) -> bool:
        """Tell whether a folder lies in a tree that is counted elsewhere."""

    def held_of(self, folders: PoolFolders) -> int:
        """Return what lies in some folders, whatever has several names there once (occupied bytes)."""

    def seen_again(self, folders: PoolFolders, folders_of: Callable[[str], PoolFolders]) -> int:
        """Return what of a pool's folders here is counted in another system's already (occupied bytes).

        `folders_of` tells the pool's folders in another system.
        """

    def folders_like(self, pattern: bytes) -> list[bytes]:
        """Return the paths of the folders that fit a pattern."""

    def used_by_owner(self) -> Mapping[str, int]:
        """Return what each owner's files use, by identifier."""

    def used_by_group(self) -> Mapping[str, int]:
        """Return what the files of each owning group use, by identifier."""


@dataclass(frozen=True, slots=True)
class LimitTarget:
    """What a limit is on: a folder (its path), a person, a group or a pool of a system."""

    on: On
    system: str
    name: str

    @property
    def key(self) -> str:
        """The place as the plan and the command line have it."""
        return self.name if self.on is On.POOL else f"{self.system}:{self.name}"

    @property
    def address(self) -> Address:
        """The folder's address."""
        return Address(self.system, self.name.encode("utf-8", "surrogateescape"))

    @classmethod
    def of_folder(cls, address: Address) -> LimitTarget:
        """Return the place of a folder."""
        return cls(On.FOLDER, address.system, address.path.decode("utf-8", "surrogateescape"))


ITEMS_WARN = 90
"""From how many percent of the files and folders that may be made one is told, where no warning is set."""


@dataclass(frozen=True, slots=True)
class LimitStatus:
    """One place: what is used, and what the two sides allow.

    `used` is our own figure (None: not known), `is_reported` says whether the system tells limits of this sort.
    `over_since` is the first of the latest unbroken counts above the limit. `entitled` is the most that a
    person is entitled to.
    """

    target: LimitTarget
    used: int | None
    planned: PlacedLimit | None = None
    found: FoundLimit | None = None
    is_reported: bool = False
    pool: Pool | None = None
    over_since: date | None = None
    entitled: Limit = UNLIMITED

    @property
    def plan_settings(self) -> Settings | None:
        """What the plan says, None where it says nothing."""
        if self.target.on is On.POOL:
            size = self.pool.size if self.pool else None
            return Settings(size, True, None, self.pool.warn if self.pool else ()) if size is not None else None
        return self.planned.settings if self.planned else None

    @property
    def found_settings(self) -> Settings | None:
        """What the system says, None where it does not tell."""
        if self.found is not None:
            return self.found.settings if self.found.is_told else None
        return Settings(UNLIMITED) if self.is_reported else None

    def as_planned(self) -> LimitStatus:
        """Return the status as it would be if the system had what the plan says; what is used stays."""
        if self.planned is None or self.found is None:
            return self
        planned = self.planned.settings
        found = replace(self.found, limit=planned.limit, enforced=planned.enforced, grace_days=planned.grace_days)
        return replace(self, found=found)

    def without_found(self) -> LimitStatus:
        """Return the status as the plan alone has it; what a pool holds, only the system can tell."""
        return self if self.target.on is On.POOL else replace(self, found=None, is_reported=False)

    @property
    def settings(self) -> Settings:
        """What holds: what the system says; the plan's word where it does not tell. Warnings are as planned."""
        found, planned = self.found_settings, self.plan_settings
        warn = (self.pool.warn if self.pool else ()) or (planned.warn if planned else ())
        holds = found or planned or Settings(UNLIMITED)
        return replace(holds, warn=warn or holds.warn)

    @property
    def amount(self) -> int:
        """What is used: the system's own figure where it tells one, for that is what it goes by; else ours."""
        message = self.found.used if self.found else None
        return message if message is not None else self.used or 0

    @property
    def is_counted(self) -> bool:
        """Tell whether anybody says what is used: of a folder that is not there nobody does."""
        return self.used is not None or (self.found is not None and self.found.used is not None)

    @property
    def difference(self) -> int | None:
        """What the system says is used beyond what we counted, None where it does not tell or we do not know."""
        message = self.found.used if self.found else None
        return None if message is None or self.used is None else message - self.used

    @property
    def left(self) -> int | None:
        """What is left of the limit, None where there is none; less than zero where it is passed."""
        limit = self.settings.limit
        if limit is UNLIMITED:
            return None
        # A system that keeps some back says less is left than limit and use would make.
        message = self.found.left if self.found else None
        return message if message is not None and self.amount <= limit else limit - self.amount

    @property
    def fullness(self) -> float:
        """How full it is, 1 being the limit; −1 where there is none."""
        limit = self.settings.limit
        if limit is UNLIMITED:
            return -1.0
        # A limit of 0 is full when nothing is stored, and more than full otherwise.
        return self.amount / limit if limit else float(2 if self.amount else 1)

    @property
    def warned(self) -> int | None:
        """The highest warn level that is met, in percent."""
        limit = self.settings.limit
        if limit is UNLIMITED:
            return None
        return max((level for level, _ in self.settings.warn if self.amount * 100 >= level * limit), default=None)

    @property
    def is_told(self) -> bool:
        """Tell whether either side says what holds, and be it that there is no limit."""
        return self.found_settings is not None or self.plan_settings is not None

    @property
    def items_left(self) -> int | None:
        """How many files and folders may still be made; None where no number is set, or it is not told."""
        return self.found.items_left if self.found else None

    @property
    def items_words(self) -> str:
        """How many files and folders there are, and how many more can be made; empty where no number is told."""
        found, left = self.found, self.items_left
        if found is None or left is None:
            return ""
        more = f"{left:,} left" if left else "none left"
        return f"{found.items_used:,} of {found.items:,} files and folders used; {more}"

    @property
    def items_warned(self) -> int | None:
        """The highest warn level that files and folders meet, in percent; by `ITEMS_WARN` where none is set."""
        found = self.found
        if found is None or not found.items or found.items_used is None:
            return None
        levels = [level for level, _ in self.settings.warn] or [ITEMS_WARN]
        return max((level for level in levels if found.items_used * 100 >= level * found.items), default=None)

    @property
    def is_over(self) -> bool:
        """Tell whether more is used than the limit allows."""
        return self.would_be_over(self.amount)

    def would_be_over(self, amount: int) -> bool:
        """Tell whether an amount would be more than the limit allows."""
        limit = self.settings.limit
        return isinstance(limit, int) and amount > limit

    def is_enforced(self, today: date) -> bool:
        """Tell whether nothing more can be written once the limit is met: grace included."""
        settings = self.settings
        # Grace is for what may be passed: an enforced limit stops at once.
        if settings.limit is UNLIMITED or settings.enforced:
            return settings.limit is not UNLIMITED
        return self.grace_left(today) is not None and (self.grace_left(today) or 0) <= 0

    def grace_left(self, today: date) -> int | None:
        """Return the days of grace that are left once a watched limit is passed; None where there is no grace."""
        days = self.settings.grace_days
        if days is None or self.settings.enforced:
            return None
        return days if self.over_since is None else days - (today - self.over_since).days

    def state(self, today: date) -> str:
        """Return the state in words, the gravest that holds."""
        settings = self.settings
        of_items = "full: no more files" if self.items_left == 0 else ""
        if self.items_warned is not None and not of_items:
            of_items = f"past {self.items_warned} % of its files"
        if settings.limit is UNLIMITED:
            return of_items or ("no limit" if self.is_told else "not told")
        if not self.is_counted:
            return "not counted"
        if self.amount > settings.limit:
            if settings.enforced:
                return "over"
            grace = self.grace_left(today)
            if grace is None:
                return "over, watched"
            return f"over, {grace} {'day' if grace == 1 else 'days'} left" if grace > 0 else "over, grace is up"
        if self.left is not None and self.left <= 0:
            return "full"
        return f"past {self.warned} %" if self.warned is not None and self.items_left != 0 else of_items or "fine"


def pools_of(plan: Plan, system: str) -> list[Pool]:
    """Return the pools that a system's folders lie in; one of the system's own name where the plan has none."""
    found = [pool for pool in plan.space.pools.values() if any(_system(key) == system for key in pool.holds)]
    # Every folder lies in some pool, also where the plan names none: the disk itself.
    return found or [Pool(system, (f"{system}:/",))]


def _system(key: str) -> str:
    return key.partition(":")[0]


def _held(pool: Pool, system: str) -> list[Address]:
    found = []
    for key in pool.holds:
        name, _, path = key.partition(":")
        if name == system:
            parts = [part for part in path.encode("utf-8", "surrogateescape").split(b"/") if part]
            found.append(Address(system, b"/" + b"/".join(parts)))
    return found


def pool_of(plan: Plan, folder: Address) -> Pool | None:
    """Return the pool that a folder lies in: the one that names the nearest folder above it."""
    best: tuple[int, Pool] | None = None
    for pool in pools_of(plan, folder.system):
        for top in _held(pool, folder.system):
            # A pool inside another's folders takes them over: the nearest one is meant.
            if folder.is_within(top) and (best is None or len(top.parts) > best[0]):
                best = len(top.parts), pool
    return best[1] if best else None


def entitled_space(plan: Plan, system: str, person: str) -> Entitlement | None:
    """Return the entitlement that gives a person the most space on a system; None where they have none."""
    mine = [one for one in plan.space.entitlements if system in one.systems and plan.is_entitled(one, person)]
    if not mine:
        return None
    return max(mine, key=lambda one: float("inf") if isinstance(one.space, Unlimited) else one.space)


def build_limit_table(plan: Plan, space: SystemSpace) -> list[LimitStatus]:
    """Return a status for every place of a system that a limit of either side is on, and for every person."""
    found = {(one.on, one.name): one for one in space.found}
    statuses = [*pool_statuses(plan, space), *_folders(plan, space, found)]
    statuses += [*_people(plan, space, found), *_groups(plan, space, found)]
    # A system that tells no limit of a sort may well have some.
    return [replace(status, is_reported=status.target.on in space.tells) for status in statuses]


def join_pools(statuses: Iterable[LimitStatus]) -> list[LimitStatus]:
    """Return statuss of several systems with one for each pool, also where systems share it."""
    found: dict[str, LimitStatus] = {}
    for status in statuses:
        key = f"{status.target.on.value} {status.target.key}"
        before = found.get(key)
        if before is not None and status.target.on is On.POOL:
            status = replace(before, used=(before.used or 0) + (status.used or 0), found=before.found or status.found)
        found[key] = status
    return list(found.values())


_Found = Mapping[tuple[On, str], FoundLimit]


def pool_statuses(plan: Plan, space: SystemSpace) -> Iterable[LimitStatus]:
    """Return a status for every pool that a system's folders lie in, with what the system has in it."""
    # What the system's own console says of a pool goes before what its file system shows.
    found = {one.name: one for one in reversed(space.found) if one.on is On.POOL}
    pools = pools_of(plan, space.name)
    for pool in pools:
        message = found.get(pool.name)
        if message is None and len(pools) == 1:
            message = found.get("")
        # What is mounted in a folder lies in a pool of its own.
        apart = {
            Address(space.name, path.encode("utf-8", "surrogateescape"))
            for path in (message.leaves_out if message is not None else ())
        }
        mine = folders_in_pool(plan, pool, space.name)
        mine = PoolFolders(
            tuple(one for one in mine.holds if one not in apart and not space.is_elsewhere(one.path)),
            (*mine.without, *apart),
        )
        used = space.held_of(mine) - space.seen_again(mine, partial(folders_in_pool, plan, pool))
        yield LimitStatus(LimitTarget(On.POOL, space.name, pool.name), used, None, message, pool=pool)


def folders_in_pool(plan: Plan, pool: Pool, system: str) -> PoolFolders:
    """Return what of one system lies in a pool, and what of that lies in other pools."""
    others = (top for other in pools_of(plan, system) if other.name != pool.name for top in _held(other, system))
    return PoolFolders(tuple(_held(pool, system)), tuple(others))


def held_by_sums(held_in: Callable[[bytes], int | None], folders: PoolFolders) -> int:
    """Return what lies in some folders, from what each holds with all below it: right where nothing is seen twice.

    `held_in` tells what a folder holds (None: there is none). Of tops one in the other, the inner one speaks for
    itself: each byte is in the nearest top above it.
    """
    tops = {*folders.holds, *folders.without}
    found = 0
    for top in set(folders.holds):
        below = [one for one in tops if one != top and one.is_within(top)]
        nearest = [one for one in below if not any(one != other and one.is_within(other) for other in below)]
        found += (held_in(top.path) or 0) - sum(held_in(one.path) or 0 for one in nearest)
    return found


def _folders(plan: Plan, space: SystemSpace, found: _Found) -> Iterable[LimitStatus]:
    placed: dict[str, PlacedLimit] = {}
    mine = [one for one in plan.space.limits if one.on is On.FOLDER and one.system == space.name]
    # A folder's own entry goes before a pattern, and an earlier pattern before a later one.
    for one in sorted(mine, key=lambda one: "*" in one.name):
        pattern = one.name.encode("utf-8", "surrogateescape")
        paths = space.folders_like(pattern) if "*" in one.name else [_plain(pattern)]
        for path in paths:
            placed.setdefault(path.decode("utf-8", "surrogateescape"), one)
    reported = {one.name: one for (on, _), one in found.items() if on is On.FOLDER}
    for name in dict.fromkeys([*placed, *reported]):
        used = space.used_in(name.encode("utf-8", "surrogateescape"))
        yield LimitStatus(LimitTarget(On.FOLDER, space.name, name), used, placed.get(name), reported.get(name))


def _plain(path: bytes) -> bytes:
    return b"/" + b"/".join(part for part in path.split(b"/") if part)


def _people(plan: Plan, space: SystemSpace, found: _Found) -> Iterable[LimitStatus]:
    principals: dict[str, list[Principal]] = {}
    for principal in space.principals:
        principals.setdefault(principal.person, []).append(principal)
    for person, one in plan.people.items():
        if space.name in one.accounts:
            principals.setdefault(person, [])
    used = space.used_by_owner()
    limits = [one for one in plan.space.limits if one.on is On.PERSON and one.system == space.name]
    for person, mine in principals.items():
        stand = [one for one in limits if plan.is_holder(one.name, person)]
        # Their own entry goes before a group's, that before a class's; else the first in the plan.
        stand.sort(key=lambda one: (one.name != person, one.name in CLASSES))
        idents = dict.fromkeys(principal.account.ident for principal in mine)
        keys = [*idents, *(principal.account.login for principal in mine), person]
        message = next((found[On.PERSON, key] for key in keys if (On.PERSON, key) in found), None)
        entitled = entitled_space(plan, space.name, person)
        yield LimitStatus(
            LimitTarget(On.PERSON, space.name, person),
            sum(used.get(ident, 0) for ident in idents),
            stand[0] if stand else None,
            message,
            entitled=entitled.space if entitled else UNLIMITED,
        )


def _groups(plan: Plan, space: SystemSpace, found: _Found) -> Iterable[LimitStatus]:
    limits = {one.name: one for one in plan.space.limits if one.on is On.GROUP and one.system == space.name}
    idents = {group.name: group.ident for group in space.groups}
    reported = {name: one for (on, name), one in found.items() if on is On.GROUP}
    named = {
        plan.groups[name].names.get(space.name, name): one for name, one in limits.items() if name in plan.groups
    }
    if not named and not reported:
        return
    used = space.used_by_group()
    for name in dict.fromkeys([*named, *reported]):
        mine = used.get(idents.get(name, name), 0)
        yield LimitStatus(LimitTarget(On.GROUP, space.name, name), mine, named.get(name), reported.get(name))


def limits_of_newcomer(plan: Plan, system: str, name: str, homes: Sequence[bytes], used: int) -> list[LimitStatus]:
    """Return the statuses of a new member of staff: what classes of people have, and a home as patterns give it."""
    found = []
    mine = [one for one in plan.space.limits if one.system == system]
    for_people = [one for one in mine if one.on is On.PERSON and one.name in ("everyone", "staff")]
    entitled = [one.space for one in plan.space.entitlements if system in one.systems and "staff" in one.holders]
    place = LimitTarget(On.PERSON, system, name)
    found.append(
        LimitStatus(
            place, used, for_people[0] if for_people else None, entitled=entitled[0] if entitled else UNLIMITED
        )
    )
    for home in homes:
        path = home.rstrip(b"/") + b"/" + name.encode()
        given = [
            one
            for one in mine
            if one.on is On.FOLDER and match_path(one.name.encode("utf-8", "surrogateescape"), path)
        ]
        if given:
            found.append(LimitStatus(LimitTarget.of_folder(Address(system, path)), used, given[0]))
    return found
