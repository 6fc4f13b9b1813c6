"""The fewest grants that give some people exactly a level each: groups first, and people by name for the rest."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from neatledger.core.lists.rights import LEVEL_RIGHTS, Level, Right

__all__ = ["SAYABLE", "draft_grants", "level_said"]

SAYABLE = (Level.LIST, Level.READ, Level.DROP, Level.WRITE, Level.MANAGE)
"""The levels that a draft says; what is between them is a question."""
_TOLD = Right.LIST | Right.READ | Right.ADD | Right.MANAGE


def level_said(rights: Right) -> Level | None:
    """Return the level that says just these rights, as the plan and what was found are compared; None for none."""
    told = rights & _TOLD
    if not told:
        return Level.NONE
    return next((level for level in SAYABLE if LEVEL_RIGHTS[level] & _TOLD == told), None)


def draft_grants(
    wanted: Mapping[str, Level], groups: Mapping[str, frozenset[str]], hints: Sequence[str] = ()
) -> dict[str, Level]:
    """Return holders with their levels so that everybody has what is wanted, and nobody more.

    A group may be given a level where all who are in it are to have that or more. Of several that serve as many,
    one of the `hints` is taken (what the folder's own list names), then the smaller one. What groups leave open is
    given by name. Groups that give nothing that others do not are left out again.
    """
    found: dict[str, Level] = {}
    lacking = {person for person, level in wanted.items() if level is not Level.NONE}
    rank = {name: place for place, name in enumerate(hints)}
    while lacking:
        best, score = "", (1, 0, 0)
        for name, people in groups.items():
            level = _most_for_all(people, wanted)
            if level is Level.NONE or name in found:
                continue
            served = {one for one in people & lacking if wanted[one] is level}
            mark = (len(served), -rank.get(name, len(rank)), -len(people))
            if len(served) > 1 and (not best or mark > score):
                best, score = name, mark
        if not best:
            break
        level = _most_for_all(groups[best], wanted)
        found[best] = level
        lacking -= {one for one in groups[best] if wanted.get(one) is level}
    for name in list(found):
        others = {one for other in found if other != name for one in groups[other] if wanted.get(one) is found[other]}
        if {one for one in groups[name] if wanted.get(one) is found[name]} <= others:
            del found[name]
    return found | {person: wanted[person] for person in sorted(lacking)}


def _most_for_all(people: frozenset[str], wanted: Mapping[str, Level]) -> Level:
    """Return the greatest level that all of some people are to have, or more; none where that is nothing."""
    rights = [LEVEL_RIGHTS[wanted.get(one, Level.NONE)] for one in people]
    fitting = [level for level in SAYABLE if all(not LEVEL_RIGHTS[level] & ~has for has in rights)]
    return fitting[-1] if rights and fitting else Level.NONE
