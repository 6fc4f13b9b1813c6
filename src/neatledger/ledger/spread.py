"""Where kept versions lie: what of a change to them falls to each limited place, by kind of file."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence

import numpy as np
from numpy.typing import NDArray

from neatledger.core.lists.table import MODELS
from neatledger.core.plan.limits import On
from neatledger.core.plan.plan import Plan
from neatledger.core.plan.space import Sort
from neatledger.core.space.limit_table import LimitStatus, PoolFolders, folders_in_pool
from neatledger.core.space.usage import Items
from neatledger.ledger.space import SpaceView

__all__ = ["spread_versions"]

Mask = NDArray[np.bool_]


def spread_versions(
    view: SpaceView, plan: Plan, statuses: Sequence[LimitStatus], amounts: Mapping[str, int]
) -> list[int]:
    """Return by how much the use of each place would change if versions changed by some bytes of each kind.

    Where versions of a kind are seen, they change in proportion to what is there; where none are, beside the files
    that they would be of. Limits that versions do not count against stay as they are; pools hold all that is kept.
    """
    found = [0] * len(statuses)
    seen = _items_of(view, Sort.VERSIONS) if view.sorts is not None else None
    beside = _items_of(view, Sort.CURRENT)
    masks: dict[int, list[tuple[int, Mask]]] = {}
    for kind, amount in amounts.items():
        items, of_kind = _of_kind(view, [each for each in (seen, beside) if each is not None], kind)
        total = int(items.figures[of_kind, 2].sum())
        if id(items) not in masks:
            masks[id(items)] = list(_masks(view, plan, statuses, items))
        for number, mask in masks[id(items)] if total else ():
            found[number] += amount * int(items.figures[of_kind & mask, 2].sum()) // total
    return found


def _items_of(view: SpaceView, sort: Sort) -> Items:
    return view.usage(frozenset({sort})).items


def _of_kind(view: SpaceView, either: Sequence[Items], kind: str) -> tuple[Items, Mask]:
    words = [word or "(none)" for word in view.kind_words]
    number = words.index(kind) if kind in words else len(words)
    for items in either:
        mask: Mask = items.kind == number
        if mask.any():
            break
    return items, mask


def _masks(view: SpaceView, plan: Plan, statuses: Sequence[LimitStatus], items: Items) -> Iterator[tuple[int, Mask]]:
    """Yield for each place that holds something of the system, by its number, which items fall to it."""
    model = MODELS[view.reader.model]
    idents = view.reader.idents()
    groups = [model.group_of(body) for body in view.reader.strings("lists.body")]
    group_idents = {group.name: group.ident for group in view.groups}
    are_counted = Sort.VERSIONS in view.rules.counted
    for number, status in enumerate(statuses):
        target = status.target
        if target.on is On.POOL:
            if status.pool is not None:
                yield number, view.mask_of(folders_in_pool(plan, status.pool, view.name))[items.folder]
        elif target.system != view.name or not are_counted:
            continue
        elif target.on is On.FOLDER:
            yield number, view.mask_of(PoolFolders((target.address,), ()))[items.folder]
        elif target.on is On.PERSON:
            theirs = {one.account.ident for one in view.principals if one.person == target.name}
            yield number, np.array([ident in theirs for ident in idents], dtype=bool)[items.owner]
        else:
            ident = group_idents.get(target.name, target.name)
            yield number, np.array([group == ident for group in groups], dtype=bool)[items.list]
