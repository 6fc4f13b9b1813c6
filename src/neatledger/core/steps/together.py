"""Whether those who may write in a folder can work together: what one of them makes there, the others can change.

What a new file or folder gets is a matter of what its folder passes on (`AccessList.new_child`), and not of who may
write in it: so the plan may be met, and the second member of a group refused all the same.
"""

from __future__ import annotations

import struct
from collections.abc import Iterator, Sequence
from dataclasses import dataclass

import numpy as np

from neatledger.core.lists.contract import Maker
from neatledger.core.lists.doubt import judge_all
from neatledger.core.lists.rights import LEVEL_RIGHTS, Right
from neatledger.core.lists.table import MODELS
from neatledger.core.people.principals import Principal
from neatledger.core.plan.plan import Plan, PlanFolder
from neatledger.core.steps import grant_posix
from neatledger.core.steps.contract import ItemState
from neatledger.core.steps.grants import set_holder
from neatledger.core.steps.wanted import Meant
from neatledger.core.steps.whom import Sort, Whom
from neatledger.core.tree.order import TreeOrder
from neatledger.core.tree.table import Table

__all__ = ["Apart", "find_apart", "planned_alike", "together_item"]

_HEAD = struct.Struct("<HI")
_SETGID = 0o2000
_NEEDS = {False: Right.CHANGE, True: Right.ADD}


@dataclass(frozen=True, slots=True)
class Apart:
    """Who could not change what whom made: a folder made there, or a file."""

    maker: str
    others: tuple[str, ...]
    is_folder: bool


def planned_alike(
    plan: Plan, system: str, folders: Table, people: Sequence[Principal]
) -> Iterator[tuple[PlanFolder, int, list[int]]]:
    """Yield the plan's folders on a system in which a group may write: who writes, and the rows that it speaks for.

    A folder that the plan does not name is spoken for by the nearest one above that it does.
    """
    order = TreeOrder(folders)
    nearest = np.full(folders.rows, -1, dtype=np.int64)
    mine = (one for one in plan.folders if one.address.system == system)
    named = sorted(mine, key=lambda one: len(one.address.parts))
    for place, planned in enumerate(named):
        row = order.find_row(planned.address.parts)
        if row is not None:
            nearest[row] = place
    order.spread_down(nearest, unmarked=-1)
    for place, planned in enumerate(named):
        grants = plan.grants_at(planned.address)
        rows = np.flatnonzero(nearest == place).tolist()
        if rows and any(holder in plan.groups and LEVEL_RIGHTS[level] & Right.ADD for _, holder, level in grants):
            writers = 0
            for number, one in enumerate(people):
                if plan.rights_at(planned.address, one.person)[0] & Right.ADD:
                    writers |= 1 << number
            yield planned, writers, rows


def find_apart(model: str, item: ItemState, meant: Meant, writers: int) -> Apart | None:
    """Return the first of those who may write (bits of `meant.people`) whose things others could not change."""
    for maker, body, is_folder in _made(model, item, _of(meant, writers)):
        others, _ = judge_all(MODELS[model].parse(body), meant.crowd, is_folder=is_folder)
        may = others.get(_NEEDS[is_folder], 0)
        for twins in meant.twins:
            may |= twins if may & twins else 0
        kept = _of(meant, writers & ~may & meant.may_come_in)
        names = tuple(dict.fromkeys(one.person for one in kept if one.person != maker.person))
        if names:
            return Apart(maker.person, names, is_folder)
    return None


def _of(meant: Meant, bits: int) -> list[Principal]:
    return [one for number, one in enumerate(meant.people) if bits >> number & 1]


def _made(model: str, item: ItemState, makers: Sequence[Principal]) -> Iterator[tuple[Principal, bytes, bool]]:
    """Yield what people would make in a folder: one for each primary group, for nothing else of theirs counts."""
    known: dict[str, Principal] = {}
    for one in makers:
        if one.may_come_in:
            known.setdefault(one.account.primary, one)
    for one in known.values():
        for is_folder in (False, True):
            maker = Maker(one.account.ident, one.account.primary)
            yield one, MODELS[model].new_child(item.body, item.default, maker, is_folder=is_folder), is_folder


def together_item(item: ItemState, meant: Meant, writers: int) -> ItemState | None:
    """Return a folder that passes on what its writers need to work together; None where nothing that is known does.

    Nobody gets by that, on what is made there, what the plan does not give them.
    """
    tried = _posix_ways(item, meant) if meant.model == "posix" else _other_ways(item, meant)
    for one in tried:
        if one != item and find_apart(meant.model, one, meant, writers) is None and not _widens(one, meant, writers):
            return one
    return None


def _writing(meant: Meant) -> list[tuple[Whom, Right]]:
    return [(whom, rights) for whom, rights in meant.grants if rights & Right.ADD and whom.sort is not Sort.OWNER]


def _posix_ways(item: ItemState, meant: Meant) -> Iterator[ItemState]:
    mode, gid = _HEAD.unpack_from(item.body)
    # What is made there gets the folder's group: else an entry for the owning group speaks of the maker's.
    body = _HEAD.pack(mode | _SETGID, gid) + item.body[_HEAD.size :]
    if item.default is not None:
        yield ItemState(item.owner, body, item.default)
        default = item.default
        for whom, rights in _writing(meant):
            # Nobody but an owner manages here; what a mask had kept from others stays kept from them.
            rights &= ~(Right.MANAGE | Right.SHARE)
            default = grant_posix.set_holder(default, whom, rights, is_folder=True, is_default=True)
        yield ItemState(item.owner, body, default)
    yield ItemState(item.owner, body, grant_posix.as_default(item.body))


def _other_ways(item: ItemState, meant: Meant) -> Iterator[ItemState]:
    body = item.body
    for whom, rights in _writing(meant):
        # An entry that is set anew is passed on to folders and files.
        body = set_holder(meant.model, body, whom, rights, is_folder=True)
    yield ItemState(item.owner, body, item.default)


def _widens(item: ItemState, meant: Meant, writers: int) -> bool:
    """Tell whether what is made in a folder would give somebody what the plan does not."""
    for maker, body, is_folder in _made(meant.model, item, _of(meant, writers)):
        others, _ = judge_all(MODELS[meant.model].parse(body), meant.crowd, is_folder=is_folder)
        mine = sum(1 << number for number, one in enumerate(meant.people) if one.person == maker.person)
        for right in (Right.READ, _NEEDS[is_folder]):
            if others.get(right, 0) & ~meant.should[right] & ~mine:
                return True
    return False
