"""Unused rights taken away: the steps, and what they would have refused to whom if they had been made a year ago."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta

import numpy as np

from neatledger.core.access.everyone import FLAG_RIGHTS, Everyone
from neatledger.core.access.people_flags import PeopleFlags
from neatledger.core.lists.rights import Level, Right
from neatledger.core.steps.contract import Step
from neatledger.core.trail.uses import Use
from neatledger.core.tree.address import Address
from neatledger.core.tree.table import folder_paths
from neatledger.errors import StepError, UnknownNameError, UsageError
from neatledger.questions.days import begin_of
from neatledger.questions.imagined import imagined_office
from neatledger.questions.office import Office
from neatledger.questions.supposing import StepMaker
from neatledger.questions.unused import Kind, Unused
from neatledger.questions.uses import load_uses

__all__ = ["Missed", "Trial", "try_out"]

_YEAR = 365  # days


@dataclass(frozen=True, slots=True)
class Missed:
    """What would have been refused to somebody in a folder: so many times, the last at a moment."""

    person: str
    address: Address
    use: Use
    number: int
    last: datetime


@dataclass(frozen=True)
class Trial:
    """The steps that take unused rights away, those that no step takes away, and what they would have refused.

    `missed` is of the last year, or of as much of it as was seen.
    """

    steps: Sequence[Step]
    by_hand: Sequence[tuple[Unused, str]]
    missed: Sequence[Missed]


def try_out(office: Office, found: Iterable[Unused]) -> Trial:
    """Return the steps that take unused rights away, and what these would have refused within the last year."""
    maker = StepMaker(office)
    by_hand: list[tuple[Unused, str]] = []
    for one in found:
        try:
            _take_away(maker, one)
        except (StepError, UnknownNameError, UsageError) as error:
            by_hand.append((one, error.what))
    return Trial(maker.steps, by_hand, list(_missed(office, maker.steps)))


def _take_away(maker: StepMaker, one: Unused) -> None:
    match one.kind:
        case Kind.ENTRY if maker.office.systems.service(one.system) is not None:
            raise StepError("who is in a team folder its managers say, or the plan and mend")
        case Kind.ENTRY | Kind.GROUP if one.address is not None:
            maker.grant(str(one.address), one.name, None)
        case Kind.CHANGE:
            maker.grant(str(one.address), one.name, Level.READ.value)
        case Kind.MEMBER:
            maker.membership(f"{one.system}:{one.name}", one.person, False)
        case Kind.ACCOUNT:
            maker.close(f"{one.system}:{one.name}")
        case Kind.GROUP:
            raise StepError("it is named in several places: take these entries away one by one (--only entry)")
        case Kind.HAND_OUT:
            raise StepError("whoever gave it takes it back, or mend does")
        case Kind.LINK:
            raise StepError("a link is ended by whoever made it, or with mend")


_NEEDS = {Use.READ: Right.READ, Use.CHANGE: Right.ADD, Use.MANAGE: Right.MANAGE}


def _missed(office: Office, steps: Sequence[Step]) -> Iterator[Missed]:
    then = imagined_office(office, steps)
    for system in dict.fromkeys(step.system for step in steps):
        before, after = (_everyone(one, system) for one in (office, then))
        until = begin_of(office.today + timedelta(days=1))
        uses = load_uses(office, before.matrix, system, until - timedelta(days=_YEAR), until)
        if not len(uses):
            continue
        people = list(dict.fromkeys(one.person for one in before.matrix.principals))
        place = {person: number for number, person in enumerate(people)}
        rows = np.unique(uses.folder)
        had, has = (PeopleFlags(one, people).flags(rows) for one in (before, after))
        path_of = folder_paths(before.matrix.folders)
        columns = (uses.account, uses.folder, uses.use, uses.number, uses.last)
        for account, folder, use, number, last in zip(*(one.tolist() for one in columns), strict=True):
            person = before.matrix.principals[account].person
            flag = 1 << FLAG_RIGHTS.index(_NEEDS[Use(use)])
            at = int(np.searchsorted(rows, folder)), place[person]
            if had[at] & flag and not has[at] & flag:
                yield Missed(
                    person, Address(system, path_of(folder)), Use(use), number, datetime.fromtimestamp(last, UTC)
                )


def _everyone(office: Office, system: str) -> Everyone:
    return office.systems.everyone(system, office.systems.holders[system], is_narrow=True)
