"""The members of a team folder as the plan means them."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import replace

from neatledger.core.access.differences import COMPARED
from neatledger.core.lists.rights import Right, with_view
from neatledger.core.steps.whom import Sort, Whom
from neatledger.core.survey.shared import Member, TeamFolder

__all__ = ["wanted_team"]


def wanted_team(
    team: TeamFolder, grants: Sequence[tuple[Whom, Right]], is_asked: Callable[[bool, str], bool]
) -> TeamFolder:
    """Return a team folder with the members that the plan names.

    Only of members of whom it `is_asked` (whether it is a group, and its name) something is changed.
    """
    members = {(one.is_group, one.holder): one for one in team.members}
    wanted: dict[tuple[bool, str], Member] = {}
    for whom, rights in grants:
        key = whom.sort is Sort.GROUP, whom.name
        given = with_view(rights)
        known = members.get(key)
        wanted[key] = replace(known, rights=given) if known else Member(whom.name, key[0], given)
        if known is not None and not (known.rights ^ given) & (COMPARED | Right.VIEW):
            # Another set of rights that amounts to the same is left as the service has it.
            wanted[key] = known
    asked = {key for key in (*members, *wanted) if is_asked(*key)}
    kept = tuple(wanted.get(key) if key in asked else one for key, one in members.items())
    fresh = tuple(one for key, one in wanted.items() if key not in members and key in asked)
    return replace(team, members=(*(one for one in kept if one is not None), *fresh))
