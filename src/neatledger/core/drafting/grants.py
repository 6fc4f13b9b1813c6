"""The fewest grants that give some people exactly a level each: groups first, and people by name for the rest."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from functools import lru_cache

from neatledger.core.lists.rights import LEVEL_RIGHTS, Level, Right

__all__ = ["SAYABLE", "GrantDrafter", "level_said"]

SAYABLE = (Level.LIST, Level.READ, Level.ADD_ONLY, Level.WRITE, Level.MANAGE)
"""The levels that a draft says; what is between them is a question."""
_TOLD = Right.LIST | Right.READ | Right.ADD | Right.MANAGE


@lru_cache(maxsize=256)
def level_said(rights: Right) -> Level | None:
    """Return the level that says just these rights, as the plan and what was found are compared; None for none."""
    told = rights & _TOLD
    if not told:
        return Level.NONE
    return next((level for level in SAYABLE if LEVEL_RIGHTS[level] & _TOLD == told), None)


class GrantDrafter:
    """Finds grants for some people and groups; people are bits of whole numbers, for folders are many."""

    def __init__(self, people: Sequence[str], groups: Mapping[str, frozenset[str]]) -> None:
        self._people = list(people)
        place = {person: number for number, person in enumerate(self._people)}
        self._groups = {name: sum(1 << place[one] for one in some if one in place) for name, some in groups.items()}
        # Whom nobody here knows can be given nothing: their group is not offered.
        self._groups = {name: bits for name, bits in self._groups.items() if bits and groups[name] <= place.keys()}

    def draft(
        self, wanted: Sequence[Level], hints: Sequence[str] = (), has: Sequence[Level] | None = None
    ) -> dict[str, Level]:
        """Return holders with their levels so that everybody has what is wanted, in the order of people, and no more.

        A group may be given a level where all in it are to have that or more. Of several that serve as many, one of
        the `hints` is taken (what the folder's own list names), then the smaller one. What groups leave open is
        given by name. Groups that give nothing that others do not are left out again. `has` is what they have in all
        where more than what is wanted comes from elsewhere: a group may give that once more.
        """
        exact = _people_by_level(wanted)
        held = exact if has is None else _people_by_level(has)
        at_least = {
            level: sum(bits for other, bits in held.items() if not LEVEL_RIGHTS[level] & ~LEVEL_RIGHTS[other])
            for level in SAYABLE
        }
        levels = {name: self._most_for_all(bits, at_least) for name, bits in self._groups.items()}
        serves = {
            name: self._groups[name] & exact[level] for name, level in levels.items() if level is not Level.NONE
        }
        lacking = sum(exact.values())
        rank = {name: place for place, name in enumerate(hints)}
        chosen: list[str] = []
        while lacking:
            marks = {
                name: ((bits & lacking).bit_count(), -rank.get(name, len(rank)), -self._groups[name].bit_count())
                for name, bits in serves.items()
                if name not in chosen
            }
            best = max(marks, key=lambda name: marks[name], default="")
            if not best or marks[best][0] < 2:
                break
            chosen.append(best)
            lacking &= ~serves[best]
        for name in list(chosen):
            others = 0
            for other in chosen:
                others |= serves[other] if other != name else 0
            if not serves[name] & ~others:
                chosen.remove(name)
        found = {name: levels[name] for name in chosen}
        named = (number for number in range(len(self._people)) if lacking >> number & 1)
        return found | {self._people[number]: wanted[number] for number in named}

    @staticmethod
    def _most_for_all(bits: int, at_least: Mapping[Level, int]) -> Level:
        """Return the greatest level that all of some people are to have, or more; none where that is nothing."""
        return next((level for level in reversed(SAYABLE) if not bits & ~at_least[level]), Level.NONE)


def _people_by_level(levels: Sequence[Level]) -> dict[Level, int]:
    """Return who has each level, as bits of places."""
    found = dict.fromkeys(SAYABLE, 0)
    for number, level in enumerate(levels):
        if level is not Level.NONE:
            found[level] |= 1 << number
    return found
