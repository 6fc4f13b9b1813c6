"""What decisions mean for the plan: grants that come, change or go; and what only a person can put right."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, replace

from neatledger.core.lists.rights import LEVEL_RIGHTS, Level, Right
from neatledger.core.plan.plan import Plan, PlanFolder
from neatledger.core.reviews.pack import CHANGEABLE, Choice, Decision
from neatledger.core.tree.address import Address

__all__ = ["GrantEdit", "Outcome", "apply_edits", "outcome_of"]


@dataclass(frozen=True, slots=True)
class GrantEdit:
    """A grant of the plan to a person by name: what it is to be; None takes it out."""

    folder: Address
    person: str
    level: Level | None


@dataclass(frozen=True)
class Outcome:
    """What is to be written into the plan, and of which decisions a person must see how, each with why."""

    edits: tuple[GrantEdit, ...]
    by_hand: tuple[tuple[Decision, str], ...]


def outcome_of(plan: Plan, decisions: Iterable[Decision]) -> Outcome:
    """Return what decisions mean for the plan, from the top downwards.

    A grant to the person by name is all that is written: what a group gives, it gives to others too.
    """
    edits: list[GrantEdit] = []
    by_hand: list[tuple[Decision, str]] = []
    for decision in sorted(decisions, key=lambda one: (one.row.folder.system, one.row.folder.parts, one.row.person)):
        edit, why = _edit_of(plan, decision)
        if why:
            by_hand.append((decision, why))
        elif edit is not None:
            edits.append(edit)
            plan = apply_edits(plan, [edit])
    return Outcome(tuple(edits), tuple(by_hand))


def apply_edits(plan: Plan, edits: Iterable[GrantEdit]) -> Plan:
    """Return the plan as it is with edits made; a folder that it does not name yet comes to its end."""
    folders = list(plan.folders)
    for edit in edits:
        at = next((place for place, one in enumerate(folders) if one.address == edit.folder), None)
        if at is None:
            folders.append(PlanFolder(edit.folder, {}))
            at = len(folders) - 1
        grants = {holder: level for holder, level in folders[at].grants.items() if holder != edit.person}
        if edit.level is not None:
            grants[edit.person] = edit.level
        folders[at] = replace(folders[at], grants=grants)
    return replace(plan, folders=tuple(folders))


def _edit_of(plan: Plan, decision: Decision) -> tuple[GrantEdit | None, str]:
    row = decision.row
    wanted = decision.left
    rights, grants = plan.rights_at(row.folder, row.person)
    if decision.choice is Choice.KEEP and wanted not in CHANGEABLE:
        return None, f"what they have ({wanted.value}) is no level that the plan can say"
    has = LEVEL_RIGHTS[wanted]
    if decision.choice is Choice.KEEP and not has & ~rights:
        return None, ""
    if decision.choice is not Choice.KEEP and rights == has:
        return None, ""
    if row.person not in plan.people:
        if wanted is Level.NONE:
            return None, "" if not rights else _through(grants, row.folder)
        return None, "the plan has no such person: name them in it, or match the account with somebody"
    try:
        row.folder.path.decode()
    except UnicodeDecodeError:
        return None, "its name is no text that the plan could say"
    others = [one for one in grants if not (one[0].address == row.folder and one[1] == row.person)]
    by_others = Right.NONE
    for _, _, level in others:
        by_others |= LEVEL_RIGHTS[level]
    if decision.choice is not Choice.KEEP and by_others & ~has:
        return None, _through([one for one in others if LEVEL_RIGHTS[one[2]] & ~has], row.folder)
    if by_others == has:
        return GrantEdit(row.folder, row.person, None), ""
    return GrantEdit(row.folder, row.person, wanted), ""


def _through(grants: Iterable[tuple[PlanFolder, str, Level]], folder: Address) -> str:
    """Say through which grants the plan gives what is to go."""
    said = [
        f"{holder} {level.value}" + ("" if one.address == folder else f" on {one.address}")
        for one, holder, level in grants
    ]
    return f"the plan gives it by {' and '.join(said)}: take them out there, or change that grant"
