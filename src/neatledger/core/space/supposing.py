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
    lines: tuple[LimitStatus, ...]
    shifts: Mapping[str, int] = field(default_factory=dict)
    moved: tuple[tuple[Address, str, str], ...] = ()
    notes: tuple[str, ...] = ()


def _pool_line(supposed: Supposed, name: str) -> LimitStatus | None:
    return next((one for one in supposed.lines if one.target.on is On.POOL and one.target.name == name), None)


def _shift(line: LimitStatus, amount: int) -> LimitStatus:
    """Return a place that holds more, or less; the system's own figure moves with ours."""
    found = line.found
    if found is not None and found.used is not None:
        found = replace(found, used=max(0, found.used + amount))
    return replace(line, used=max(0, (line.used or 0) + amount), found=found)


def suppose_limit(supposed: Supposed, key: str, limit: Limit) -> Supposed:
    """Set the limit of a place, on both sides; raises `UnknownNameError` where there is none of this key."""
    lines = list(supposed.lines)
    for number, line in enumerate(lines):
        if line.target.key != key:
            continue
        if line.target.on is On.POOL:
            pool = replace(line.pool, size=limit if isinstance(limit, int) else None) if line.pool else None
            found = replace(line.found, limit=limit) if line.found else None
            lines[number] = replace(line, pool=pool, found=found)
        else:
            old = line.planned
            own = {**(old.own if old else {}), "limit": limit}
            placed = PlacedLimit(
                line.target.on, key, line.target.system, line.target.name, old.band if old else None, own
            )
            found = replace(line.found, limit=limit) if line.found else None
            is_reported = line.is_reported and found is not None
            lines[number] = replace(line, planned=placed, found=found, is_reported=is_reported)
        return replace(supposed, lines=tuple(lines))
    raise UnknownNameError(f"no place {key!r} is counted or planned", hint="space --all lists them")


def suppose_band(supposed: Supposed, name: str, limit: Limit, day: date) -> Supposed:
    """Restate a band; exceptions stay, and nothing falls below what is used."""
    bands = supposed.plan.space.bands
    if name not in bands:
        raise UnknownNameError(f"the plan has no band {name!r}", hint=f"there are: {', '.join(bands) or 'none'}")
    found = restate(supposed.lines, bands[name], {"limit": limit}, day)
    plan = apply_restating(supposed.plan, found)
    after = {move.line.target.key: move.after for move in found.moves if move.line.planned}
    lines = []
    for line in supposed.lines:
        settings = after.get(line.target.key)
        if settings is None or line.planned is None or line.planned.settings == settings:
            lines.append(line)
            continue
        own = {"limit": settings.limit, "enforced": settings.enforced, "warn": settings.warn}
        placed = replace(line.planned, band=found.after, own=own)
        lines.append(replace(line, planned=placed).as_planned())
    return replace(supposed, plan=plan, lines=tuple(lines))


def suppose_join(supposed: Supposed, system: str, number: int) -> Supposed:
    """Let people join a system, each with the limits of a new member of staff, using what is usual by now."""
    if system not in supposed.plan.systems:
        raise UnknownNameError(
            f"no system is named {system!r}", hint=f"there are: {', '.join(supposed.plan.systems)}"
        )
    lines = list(supposed.lines)
    people = [one for one in lines if one.target.on is On.PERSON and one.target.system == system]
    homes = supposed.plan.systems[system].homes
    inside = [
        one for one in lines if one.target.on is On.FOLDER and one.target.system == system and _is_home(one, homes)
    ]
    usual = median_low([one.amount for one in inside] or [one.amount for one in people] or [0])
    for place in range(1, number + 1):
        lines += limits_of_newcomer(supposed.plan, system, f"new-person-{place}", homes, usual)
    shifts = dict(supposed.shifts)
    pool = pool_of(supposed.plan, Address(system, homes[0] if homes else b"/"))
    if pool is not None:
        shifts[pool.name] = shifts.get(pool.name, 0) + number * usual
        lines = [
            _shift(one, number * usual) if one.target.on is On.POOL and one.target.name == pool.name else one
            for one in lines
        ]
    message = (
        *supposed.notes,
        f"{number} joining {system} would use as much as is usual in a home there: {show_size(usual)} each.",
    )
    return replace(supposed, lines=tuple(lines), shifts=shifts, notes=message)


def _is_home(line: LimitStatus, homes: Sequence[bytes]) -> bool:
    parts = line.target.address.parts
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
    lines = list(supposed.lines)
    shifts = dict(supposed.shifts)
    if not any(one.target.on is On.POOL and one.target.name == target for one in lines):
        lines.append(LimitStatus(LimitTarget(On.POOL, folder.system, target), 0, pool=pools[target]))
    for number, line in enumerate(lines):
        if line.target.on is On.POOL and line.pool is not None:
            amount = held * ((line.target.name == target) - (source is not None and line.target.name == source.name))
            shifts[line.target.name] = shifts.get(line.target.name, 0) + amount
            lines[number] = replace(_shift(line, amount), pool=pools.get(line.target.name, line.pool))
    moved = (*supposed.moved, (folder, source.name if source else "", target))
    return replace(supposed, plan=plan, lines=tuple(lines), shifts=shifts, moved=moved)


def suppose_use(supposed: Supposed, system: str, amount: int, message: str) -> Supposed:
    """Let a system use more or less at once, in the pool of its root."""
    pool = pool_of(supposed.plan, Address(system, b"/"))
    if pool is None or _pool_line(supposed, pool.name) is None:
        return replace(supposed, notes=(*supposed.notes, message))
    shifts = {**supposed.shifts, pool.name: supposed.shifts.get(pool.name, 0) + amount}
    lines = tuple(
        _shift(one, amount) if one.target.on is On.POOL and one.target.name == pool.name else one
        for one in supposed.lines
    )
    return replace(supposed, lines=lines, shifts=shifts, notes=(*supposed.notes, message))
