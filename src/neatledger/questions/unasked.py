"""What a change gives somebody that the plan does not ask for, and what it takes that the plan gives them."""

from __future__ import annotations

from collections.abc import Collection
from typing import Protocol

from neatledger.core.access.comparing import AccessChange
from neatledger.core.access.differences import COMPARED, nearest_planned
from neatledger.core.lists.rights import Right
from neatledger.core.plan.plan import Plan
from neatledger.core.tree.address import Address
from neatledger.questions.office import Office
from neatledger.questions.starting import home_of

__all__ = ["BEYOND", "SILENT", "administrators_of", "is_unasked_gain", "unasked"]

BEYOND, SILENT = "beyond the plan", "of which the plan says nothing"
_LOST = "though the plan gives it"


class Changed(Protocol):
    """What changes for one person from a folder on down."""

    @property
    def address(self) -> Address: ...
    @property
    def change(self) -> AccessChange: ...


def unasked(plan: Plan, one: Changed, administrators: Collection[str]) -> str:
    """Say what the plan does not ask for of a change; nothing where it asks for all of it.

    What administrators of the system have by their role alone is none of the plan's matter.
    """
    if one.change.person in administrators:
        return ""
    if is_unasked_gain(plan, one):
        return SILENT if nearest_planned(plan, one.address) is None else BEYOND
    return _LOST if _is_unasked_loss(plan, one) else ""


def administrators_of(office: Office, system: str) -> set[str]:
    """Return who opens everything on a system by a role, whatever its lists say."""
    overrides = office.readers[system].terms.model.overrides
    return {one.person for one in office.systems.holders[system] if overrides(one.holder) is not None}


def is_unasked_gain(plan: Plan, one: Changed) -> bool:
    """Tell whether somebody gains what the plan does not give them there, on a folder or with its files."""
    planned, _ = plan.rights_at(one.address, one.change.person)
    known = plan.people.get(one.change.person)
    home = None if known is None else home_of(plan, known)
    if home is not None and one.address.is_within(home):
        return False
    # That an owner manages is no matter of the plan of folders.
    if one.change.gained & COMPARED & ~Right.MANAGE & ~planned:
        return True
    files = one.change.gained_files
    may_read, may_change = planned & (Right.READ | Right.VIEW), planned & (Right.CHANGE | Right.ADD)
    return bool((files.read and not may_read) or (files.change and not may_change))


def _is_unasked_loss(plan: Plan, one: Changed) -> bool:
    """Tell whether somebody loses what the plan gives them there."""
    planned, _ = plan.rights_at(one.address, one.change.person)
    if one.change.lost & planned & COMPARED:
        return True
    files = one.change.lost_files
    return bool((files.read and planned & Right.READ) or (files.change and planned & Right.CHANGE))
