"""An imagined change to space: the plan and the places as they would be, without changing anything."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from datetime import date
from statistics import median_low

from neatledger.core.plan.limits import Limit, On, PlacedLimit, Pool
from neatledger.core.plan.plan import Plan
from neatledger.core.space.bands import apply_restating, restate
from neatledger.core.space.limit_table import LimitStatus, LimitTarget, limits_of_newcomer, pool_of, pools_of
from neatledger.core.space.sizes import show_size
from neatledger.core.tree.address import Address
from neatledger.errors import UnknownNameError

__all__ = ["Supposed", "suppose_band", "suppose_join", "suppose_limit", "suppose_move", "suppose_use"]


@dataclass(frozen=True, slots=True)
class Supposed:
    """The office as it would be.

    `shifts` has, by the key of a pool, by how much its use would change at once; `moved` has the folders
    that would lie in another pool, with the pools they come from and go to; `notes` say in words what is new.
    """

    plan: Plan
    statuses: tuple[LimitStatus, ...]
    shifts: Mapping[str, int] = field(default_factory=dict)
    moved: tuple[tuple[Address, str, str], ...] = ()
    notes: tuple[str, ...] = ()


def _shift(status: LimitStatus, amount: int) -> LimitStatus:
    """Return a place that holds more, or less; the system's own figure moves with ours."""
    found = status.found
    if found is not None and found.used is not None:
        found = replace(found, used=max(0, found.used + amount))
    return replace(status, used=max(0, (status.used or 0) + amount), found=found)


def suppose_limit(supposed: Supposed, key: str, limit: Limit) -> Supposed:
    """Set the limit of a place, on both sides; raises `UnknownNameError` where there is none of this key."""
    statuses = list(supposed.statuses)
    for number, status in enumerate(statuses):
        if status.target.key != key:
            continue
        if status.target.on is On.POOL:
            pool = replace(status.pool, size=limit if isinstance(limit, int) else None) if status.pool else None
            found = replace(status.found, limit=limit) if status.found else None
            statuses[number] = replace(status, pool=pool, found=found)
        else:
            old = status.planned
            own = {**(old.own if old else {}), "limit": limit}
            placed = PlacedLimit(
                status.target.on, key, status.target.system, status.target.name, old.band if old else None, own
            )
            found = replace(status.found, limit=limit) if status.found else None
            is_reported = status.is_reported and found is not None
            statuses[number] = replace(status, planned=placed, found=found, is_reported=is_reported)
        return replace(supposed, statuses=tuple(statuses))
    raise UnknownNameError(f"no place {key!r} is counted or planned", hint="space --all lists them")


def suppose_band(supposed: Supposed, name: str, limit: Limit, day: date) -> Supposed:
    """Restate a band; exceptions stay, and nothing falls below what is used."""
    bands = supposed.plan.space.bands
    if name not in bands:
        raise UnknownNameError(f"the plan has no band {name!r}", hint=f"there are: {', '.join(bands) or 'none'}")
    found = restate(supposed.statuses, bands[name], {"limit": limit}, day)
    plan = apply_restating(supposed.plan, found)
    after = {move.status.target.key: move.after for move in found.moves if move.status.planned}
    statuses = []
    for status in supposed.statuses:
        settings = after.get(status.target.key)
        if settings is None or status.planned is None or status.planned.settings == settings:
            statuses.append(status)
            continue
        own = {"limit": settings.limit, "enforced": settings.enforced, "warn": settings.warn}
        placed = replace(status.planned, band=found.after, own=own)
        statuses.append(replace(status, planned=placed).as_planned())
    return replace(supposed, plan=plan, statuses=tuple(statuses))


def suppose_join(supposed: Supposed, system: str, number: int) -> Supposed:
    """Let people join a system, each with the limits of a new member of staff, using what is usual by now."""
    if system not in supposed.plan.systems:
        raise UnknownNameError(
            f"no system is named {system!r}", hint=f"there are: {', '.join(supposed.plan.systems)}"
        )
    statuses = list(supposed.statuses)
    people = [one for one in statuses if one.target.on is On.PERSON and one.target.system == system]
    homes = supposed.plan.systems[system].homes
    inside = [
        one for one in statuses if one.target.on is On.FOLDER and one.target.system == system and _is_home(one, homes)
    ]
    # The middle one, and not the mean: one large home is not what a newcomer brings.
    usual = median_low([one.amount for one in inside] or [one.amount for one in people] or [0])
    for place in range(1, number + 1):
        statuses += limits_of_newcomer(supposed.plan, system, f"new-person-{place}", homes, usual)
    home = Address(system, homes[0] if homes else b"/")
    pool = pool_of(supposed.plan, home)
    # What they bring counts in the pool, and against every limit on a folder that their homes lie in.
    amounts = [number * usual if _holds(one.target, home, pool) else 0 for one in statuses]
    message = f"{number} joining {system} would use as much as is usual in a home there: {show_size(usual)} each."
    return suppose_use(replace(supposed, statuses=tuple(statuses)), amounts, message)


def _holds(target: LimitTarget, folder: Address, pool: Pool | None) -> bool:
    """Tell whether what comes into a folder counts against a limit."""
    if target.on is On.POOL:
        return pool is not None and target.name == pool.name
    return target.on is On.FOLDER and target.system == folder.system and folder.is_within(target.address)


def _is_home(status: LimitStatus, homes: Sequence[bytes]) -> bool:
    parts = status.target.address.parts
    return any(parts[:-1] == Address("", home).parts for home in homes)


def suppose_move(supposed: Supposed, folder: Address, target: str, held: int) -> Supposed:
    """Move a folder, which holds so many bytes, to another pool of the plan or a new one."""
    plan = supposed.plan
    source = pool_of(plan, folder)
    pools = dict(plan.space.pools)
    for pool in pools_of(plan, folder.system):
        # What a system has without a word in the plan is spoken out, so that it can be told from the target.
        pools.setdefault(pool.name, pool)
    before = pools.get(target, Pool(target, ()))
    pools[target] = replace(before, holds=(*before.holds, str(folder)))
    plan = replace(plan, space=replace(plan.space, pools=pools))
    statuses = list(supposed.statuses)
    shifts = dict(supposed.shifts)
    if not any(one.target.on is On.POOL and one.target.name == target for one in statuses):
        statuses.append(LimitStatus(LimitTarget(On.POOL, folder.system, target), 0, pool=pools[target]))
    for number, status in enumerate(statuses):
        if status.target.on is On.POOL and status.pool is not None:
            amount = held * (
                (status.target.name == target) - (source is not None and status.target.name == source.name)
            )
            shifts[status.target.name] = shifts.get(status.target.name, 0) + amount
            statuses[number] = replace(_shift(status, amount), pool=pools.get(status.target.name, status.pool))
    moved = (*supposed.moved, (folder, source.name if source else "", target))
    return replace(supposed, plan=plan, statuses=tuple(statuses), shifts=shifts, moved=moved)


def suppose_use(supposed: Supposed, amounts: Sequence[int], message: str) -> Supposed:
    """Let each place use more or less at once; `amounts` are bytes, one for each of the statuses."""
    shifts = dict(supposed.shifts)
    statuses = []
    for status, amount in zip(supposed.statuses, amounts, strict=True):
        if amount and status.target.on is On.POOL:
            shifts[status.target.name] = shifts.get(status.target.name, 0) + amount
        statuses.append(_shift(status, amount) if amount else status)
    return replace(supposed, statuses=tuple(statuses), shifts=shifts, notes=(*supposed.notes, message))
