"""The plan beside what was found: where the two differ, and what a person lacks.

The plan speaks of folders that it names; any other folder below one has what that one has. It says who
may look, read, add and manage, and compares with levels found. Who owns a subfolder they made may change
its list on most systems; that alone is no difference, unless the plan says who manages.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass

from neatledger.core.access.ways import Access
from neatledger.core.lists.rights import Level, Right, level_of, spell_rights
from neatledger.core.plan.plan import Plan, PlanFolder
from neatledger.core.tree.address import Address

__all__ = ["COMPARED", "Difference", "differences_at", "nearest_planned"]

COMPARED = Right.LIST | Right.READ | Right.ADD | Right.MANAGE


@dataclass(frozen=True, slots=True)
class Difference:
    """What the plan means a person to have on a folder and has not, and the other way round.

    Where it `is_known` only in part what they have, nothing is said to be missing: it is not known.
    """

    person: str
    address: Address
    planned: Right
    found: Right
    is_known: bool = True

    @property
    def missing(self) -> Right:
        """Return what is planned and was not found."""
        return self.planned & ~self.found & COMPARED if self.is_known else Right.NONE

    @property
    def beyond(self) -> Right:
        """Return what was found and is not planned."""
        # An owner may change the list of what they own: that alone is nothing beyond the plan.
        return self.found & ~self.planned & (COMPARED & ~Right.MANAGE)

    def __bool__(self) -> bool:
        return bool(self.missing or self.beyond)

    def spell(self) -> str:
        """Say the difference in words."""
        parts = []
        if self.missing:
            parts.append(f"lacks {spell_rights(self.missing)}")
        if self.beyond:
            parts.append(f"has {spell_rights(self.beyond)} beyond the plan")
        if not self.is_known:
            parts.append("what else they have is not known")
        return "; ".join(parts) or "as planned"

    @property
    def planned_level(self) -> Level:
        """Return the level of the plan."""
        return level_of(self.planned)


def nearest_planned(plan: Plan, address: Address) -> PlanFolder | None:
    """Return the folder of the plan that speaks for `address`: itself, or the nearest one above it."""
    above: Iterable[PlanFolder] = (folder for folder in plan.folders if address.is_within(folder.address))
    return max(above, key=lambda folder: len(folder.address.parts), default=None)


def differences_at(plan: Plan, address: Address, asked: Mapping[str, Access]) -> list[Difference]:
    """Compare the sides on one folder, for the plan's people and all others found; administrators apart."""
    found = []
    for person in dict.fromkeys([*plan.people, *asked]):
        planned, _ = plan.rights_at(address, person)
        rights = Right.NONE
        ways = asked[person].ways if person in asked else ()
        # Administrators open everything by their role, which the plan of folders does not speak of.
        admins = {way.principal.account.login for way in ways if way.name == "admin"}
        if person not in plan.people and all(way.principal.account.login in admins for way in ways):
            continue
        others = [way for way in ways if way.principal.account.login not in admins]
        for way in others:
            rights |= way.rights
        found.append(Difference(person, address, planned, rights, all(way.is_known for way in others)))
    return found
