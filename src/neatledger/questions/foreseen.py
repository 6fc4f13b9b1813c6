"""What the systems would not take of a worklist, known by signing in and looking before anything is shown or made."""

from __future__ import annotations

from dataclasses import replace

from neatledger.questions.carrying import Carriers
from neatledger.questions.worklist import Worklist

__all__ = ["foreseen"]


def foreseen(work: Worklist, carriers: Carriers) -> Worklist:
    """Return a worklist in which what a system would not take is a person's to make, with the reason.

    What hangs together with it, and comes after it, waits for that: whether it could be made before, nobody looked.
    """
    items, refused = [], set[int]()
    for item in work.items:
        if item.by_hand or item.refused or item.waits:
            items.append(item)
            continue
        why = carriers.foresee(item.step)
        if why:
            refused.add(item.group)
        items.append(replace(item, by_hand=why, waits=not why and item.group in refused))
    return replace(work, items=items)
