"""Groups in need of tidying: twins, those that are nearly another, those that grant nothing, those of one person."""

from __future__ import annotations

from collections.abc import Collection, Mapping
from dataclasses import dataclass
from itertools import combinations

__all__ = ["Oddity", "find_oddities"]

_LEAST_NEAR = 3
"""Groups of fewer people are near to many others by chance."""
_ONE_IN = 10
"""Of so many people one more may be another one, and the groups are still nearly the same."""


@dataclass(frozen=True, slots=True)
class Oddity:
    """One group, or two, with what is odd: `only` are those who are in one of the two alone."""

    kind: str
    groups: tuple[str, ...]
    people: frozenset[str]
    only: tuple[frozenset[str], frozenset[str]] = (frozenset(), frozenset())


def find_oddities(members: Mapping[str, frozenset[str]], granting: Collection[str]) -> list[Oddity]:
    """Return what is odd of groups: by name the people in each, and which of them grant anything."""
    found = [
        Oddity("twins", (one, other), members[one])
        for one, other in combinations(members, 2)
        if members[one] == members[other] and len(members[one]) > 1
    ]
    for one, other in combinations(members, 2):
        mine, theirs = members[one], members[other]
        apart = len(mine ^ theirs)
        if 0 < apart <= max(1, len(mine | theirs) // _ONE_IN) and len(mine & theirs) >= _LEAST_NEAR:
            found.append(Oddity("nearly the same", (one, other), mine & theirs, (mine - theirs, theirs - mine)))
    found += [Oddity("grants nothing", (one,), some) for one, some in members.items() if one not in granting]
    found += [
        Oddity("one person", (one,), some) for one, some in members.items() if len(some) == 1 and one in granting
    ]
    return found
