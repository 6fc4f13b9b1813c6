"""Bands: many limits from one setting. What moves when a band is restated, what stays, and what would end.

Places that do not differ move. Exceptions stay as they are unless they are named; one whose own values are
those of the restated band is an exception no more. No limit falls below what is used unless that is insisted
on: such a place keeps the limit that it has, as an exception. A band may also be restated for later places only: then
all that have it now keep what they have.
"""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import date
from enum import Enum
from typing import Any

from neatledger.core.plan.limits import FIELDS, UNLIMITED, Band, On, PlacedLimit, Settings
from neatledger.core.plan.plan import Plan
from neatledger.core.space.limit_table import LimitStatus

__all__ = ["Move", "Outcome", "Restating", "apply_restating", "restate"]


class Outcome(Enum):
    """What becomes of a place."""

    MOVES = "moves"
    SAME = "as before"
    STAYS = "exception, stays"
    ENDS = "exception, ends"
    BROUGHT_BACK = "exception, brought back"
    KEPT = "kept: holds more"
    LATER = "kept: for later places only"


@dataclass(frozen=True, slots=True)
class Move:
    """One place with a restated band: what it is allowed before and after, and what it would be on band."""

    status: LimitStatus
    before: Settings
    after: Settings
    on_band: Settings
    outcome: Outcome

    @property
    def falls_below(self) -> bool:
        """Tell whether its limit on band would be less than what is used."""
        return self.on_band.limit is not UNLIMITED and self.status.amount > self.on_band.limit


@dataclass(frozen=True, slots=True)
class Restating:
    """A band restated: the band before and after, and all places that have it.

    `unknown` are places that were to be brought back and are none of its exceptions.
    """

    before: Band
    after: Band
    moves: tuple[Move, ...]
    unknown: tuple[str, ...]
    day: date

    @property
    def kept(self) -> tuple[Move, ...]:
        """The places that become exceptions with what they have."""
        return tuple(move for move in self.moves if move.outcome in (Outcome.KEPT, Outcome.LATER))

    @property
    def dropped(self) -> tuple[Move, ...]:
        """The exceptions that end."""
        return tuple(move for move in self.moves if move.outcome in (Outcome.BROUGHT_BACK, Outcome.ENDS))


def restate(
    statuses: Sequence[LimitStatus],
    band: Band,
    stated: Mapping[str, Any],
    day: date,
    *,
    bring_back: Collection[str] = (),
    later_only: bool = False,
    insist: bool = False,
) -> Restating:
    """Work out what restating a band does; nothing is changed.

    Arguments: the office's `statuses`; the fields that the band states anew; the keys of exceptions to bring
    back; whether only later places are meant; whether limits may fall below what is used.
    """
    after = replace(band, stated={**band.stated, **stated})
    if stated.get("enforced") and "grace_days" not in stated and after.stated.get("grace_days") is not None:
        # Grace is for what may be passed: it ends with that.
        after = replace(after, stated={**after.stated, "grace_days": None})
    moves = []
    named = set(bring_back)
    for status in statuses:
        placed = status.planned
        if placed is None or placed.band is None or placed.band.name != band.name:
            continue
        moves.append(
            _move(status, placed, after, named=status.target.key in named, later_only=later_only, insist=insist)
        )
    exceptions = {move.status.target.key for move in moves if move.status.planned and move.status.planned.exceptions}
    # A misspelt key must not pass for one that was brought back.
    unknown = tuple(key for key in bring_back if key not in exceptions)
    return Restating(band, after, tuple(moves), unknown, day)


def _move(
    status: LimitStatus, placed: PlacedLimit, after: Band, *, named: bool, later_only: bool, insist: bool
) -> Move:
    before = placed.settings
    on_band = Settings.of(after.stated)
    is_exception = bool(placed.exceptions)
    stays = Settings.of(after.stated, placed.own)
    if is_exception and not named:
        # What it states itself stays; what it has of its band moves with it.
        own = {exception.field: exception.own for exception in placed.exceptions}
        stays = Settings.of(after.stated, own)
        # What is there stays as it is, also where it has some fields of the band.
        if later_only and stays != before:
            return Move(status, before, before, on_band, Outcome.LATER)
        return Move(status, before, stays, on_band, Outcome.ENDS if stays == on_band else Outcome.STAYS)
    if on_band == before:
        return Move(status, before, before, on_band, Outcome.SAME)
    if later_only and not named:
        return Move(status, before, before, on_band, Outcome.LATER)
    falls = on_band.limit is not UNLIMITED and status.amount > on_band.limit
    is_lower = on_band.limit is not UNLIMITED and (before.limit is UNLIMITED or on_band.limit < before.limit)
    # A limit below what is used stops people at once: it is kept as an exception until that is insisted on.
    if falls and is_lower and not insist:
        return Move(status, before, replace(on_band, limit=before.limit), on_band, Outcome.KEPT)
    return Move(status, before, on_band, on_band, Outcome.BROUGHT_BACK if is_exception else Outcome.MOVES)


def apply_restating(plan: Plan, found: Restating) -> Plan:
    """Return the plan as it is after a restating.

    What a limit states itself as its band does is no exception and goes with the band. A limit that speaks of one
    place alone becomes what its place becomes; one that others have too (a pattern, a group's people) stays for them,
    and a place that parts from them gets a limit of its own.
    """
    bands = {**plan.space.bands, found.after.name: found.after}
    alone = {_key_of(move.status.planned): move for move in found.moves if _is_alone(move.status)}
    limits: list[PlacedLimit] = []
    for one in plan.space.limits:
        if one.band is None or one.band.name != found.after.name:
            limits.append(one)
        elif (move := alone.get(_key_of(one))) is not None:
            limits.append(_restated(one, move, found))
        else:
            limits.append(_moved_for_all(one, found))
    shared = {_key_of(one): one for one in limits}
    for move in found.moves:
        placed, target = move.status.planned, move.status.target
        if placed is not None and not _is_alone(move.status) and shared[_key_of(placed)].settings != move.after:
            apart = replace(placed, key=target.key, name=target.name, line=0)
            limits.append(_restated(apart, move, found))
    return replace(plan, space=replace(plan.space, bands=bands, limits=tuple(limits)))


def _key_of(placed: PlacedLimit | None) -> tuple[On, str] | None:
    return (placed.on, placed.key) if placed else None


def _is_alone(status: LimitStatus) -> bool:
    """Tell whether the limit that a place has in the plan is on that place and no other."""
    placed = status.planned
    if placed is None:
        return False
    match placed.on:
        case On.FOLDER:
            return "*" not in placed.name
        case On.PERSON:
            return placed.name == status.target.name
        case _:
            return True


def _moved_for_all(one: PlacedLimit, found: Restating) -> PlacedLimit:
    before, after = (Settings.of(band.stated) for band in (found.before, found.after))
    own = {
        name: value for name, value in one.own.items() if value not in (getattr(before, name), getattr(after, name))
    }
    return _stating(one, found.after, own)


def _restated(one: PlacedLimit, move: Move, found: Restating) -> PlacedLimit:
    own = _own_fields(move, found.after)
    # An exception that stays keeps its day and its reason; one that is made here gets them.
    is_new = move.outcome is Outcome.KEPT or (move.outcome is Outcome.LATER and not one.exceptions)
    if own and is_new:
        one = replace(one, since=found.day, because=move.outcome.value.removeprefix("kept: "))
    return _stating(one, found.after, own)


def _stating(one: PlacedLimit, band: Band, own: Mapping[str, Any]) -> PlacedLimit:
    if not own:
        one = replace(one, since=None, because="")
    return replace(one, band=band, own=own)


def _own_fields(move: Move, after: Band) -> dict[str, Any]:
    """Return what a place must state itself so that what holds there is `move.after`."""
    on_band = Settings.of(after.stated)
    return {name: getattr(move.after, name) for name in FIELDS if getattr(move.after, name) != getattr(on_band, name)}
