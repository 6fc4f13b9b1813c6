"""Decisions made into steps where things are shared: a member taken out, a hand-out or a link ended."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

from neatledger.core.access.ways import Way
from neatledger.core.lists.rights import LEVEL_RIGHTS, Level, Right
from neatledger.core.reviews.pack import Choice, Decision
from neatledger.core.steps.contract import Step
from neatledger.core.steps.hand_outs import HandOutStep
from neatledger.core.steps.links import LinkStep
from neatledger.core.steps.teams import TeamStep
from neatledger.core.survey.shared import Audience, Shared, Towards
from neatledger.errors import StepError
from neatledger.ledger.locations import find_location
from neatledger.questions.imagined import imagined_office
from neatledger.questions.office import Office

__all__ = ["shared_steps"]

_MOST = 20
_TOLD = Right.LIST | Right.READ | Right.VIEW | Right.ADD | Right.CHANGE


def shared_steps(office: Office, decision: Decision, made: Sequence[Step]) -> list[Step]:
    """Return the steps of one decision, after those made before; raises `StepError` where no step here does it.

    What is for several, or lies further up, is left to a person: it gives something else too.
    """
    system, left = decision.row.folder.system, LEVEL_RIGHTS[decision.left]
    steps: list[Step] = []
    for _ in range(_MOST):
        then = imagined_office(office, [one for one in (*made, *steps) if one.system == system])
        mine = [one for one in then.systems.holders[system] if one.person == decision.row.person]
        if not mine:
            return steps
        ways = then.systems.access(find_location(then.readers[system], decision.row.folder), mine).ways
        beyond = [way for way in ways if way.rights & ~left & _TOLD]
        if not beyond:
            if decision.choice is Choice.CHANGE and not any(left & _TOLD & way.rights for way in ways):
                raise StepError("what is to be given there must be shared with them by a person")
            return steps
        shared = then.readers[system].shared
        assert shared is not None, "a service shares something"
        steps.append(_step(shared, beyond[0], decision))
    raise StepError("too many ways lead there: a person must look at them")


def _step(shared: Shared, way: Way, decision: Decision) -> Step:
    path, system, login = decision.row.folder.path, decision.row.folder.system, way.principal.account.login
    names = {login, way.principal.account.email, decision.row.person}
    match way.name:
        case "handed":
            given = next(one for one in shared.hand_outs if one.id == way.through)
            if given.towards is Towards.GROUP or given.receiver not in names:
                raise StepError(f"the hand-out {given.id} is for {given.receiver}, not for them alone")
            if given.path != path:
                raise StepError(f"the hand-out {given.id} is of a folder further up")
            less = given.rights & LEVEL_RIGHTS[decision.left]
            return HandOutStep(system, given, replace(given, rights=less) if less & _TOLD else None)
        case "link":
            link = next(one for one in shared.links if one.id == way.through)
            others = tuple(one for one in link.named if one not in names)
            if link.audience is not Audience.NAMED or len(others) == len(link.named):
                raise StepError(f"the link {link.id} is for others too")
            if link.path != path:
                raise StepError(f"the link {link.id} is of a folder further up")
            if decision.left is not Level.NONE and others:
                raise StepError(f"the link {link.id} gives everybody the same")
            return LinkStep(system, link, replace(link, named=others) if others else None)
        case "team":
            team = next(one for one in shared.teams if one.name == way.through)
            member = next((one for one in team.members if not one.is_group and one.holder == login), None)
            if member is None:
                raise StepError(f"they are in the team folder {team.name} by a group")
            if team.path != path:
                raise StepError(f"they are a member of the team folder {team.name}, further up")
            less = member.rights & LEVEL_RIGHTS[decision.left]
            stays = (replace(member, rights=less),) if less & _TOLD else ()
            members = tuple(each for one in team.members for each in (stays if one == member else (one,)))
            return TeamStep(system, team, replace(team, members=members))
        case _:
            raise StepError("they have it as their own, or as an administrator: nothing shared gives it")
