"""One member of team folders given the part of others: of a group, or of people who are members alike."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

from neatledger.core.steps.contract import State
from neatledger.core.steps.teams import TeamStep
from neatledger.core.steps.whom import Sort, Whom
from neatledger.core.survey.shared import Member, TeamFolder

__all__ = ["in_place_in_teams"]


def in_place_in_teams(state: State, old: Sequence[Whom], new: Whom) -> list[TeamStep]:
    """Return the steps that make somebody a member in place of others, wherever all of these are members alike.

    Whoever has not accepted yet is left alone, and so are team folders that name them otherwise.
    """
    if state.shared is None or not old:
        return []
    found = []
    for team in state.shared.teams:
        mine = [_member(team, one) for one in old]
        there = [one for one in mine if one is not None]
        if len(there) < len(old) or len({(one.rights, one.reply) for one in there}) > 1:
            continue
        known = _member(team, new)
        # Both roles count: each is a way of its own.
        rights = there[0].rights | (known.rights if known else there[0].rights)
        called = new.name if new.sort is Sort.GROUP else new.name or new.ident
        made = replace(
            there[0], holder=known.holder if known else called, is_group=new.sort is Sort.GROUP, rights=rights
        )
        members: list[Member] = []
        for one in team.members:
            if one == there[0]:
                members.append(made)
            elif one not in there and one != known:
                members.append(one)
        found.append(TeamStep(state.system, team, replace(team, members=tuple(members))))
    return found


def _member(team: TeamFolder, whom: Whom) -> Member | None:
    names = {whom.name, whom.ident} - {""}
    is_group = whom.sort is Sort.GROUP
    return next((one for one in team.members if one.is_group == is_group and one.holder in names), None)
