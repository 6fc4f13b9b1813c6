"""The plan's side of a question, and both sides beside each other."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence

from neatledger.core.access import Access
from neatledger.core.plan import Address, Plan
from neatledger.core.rights import Level, Right, level_of
from neatledger.core.sides import Difference, nearest_planned
from neatledger.reports.report import Cell, Column, Report

__all__ = ["both_report", "differences_at", "plan_reach_report", "plan_who_report"]

_PLAN_COLUMNS = (
    Column("person", "PERSON", cuts=True),
    Column("folder", "FOLDER", cuts=True),
    Column("level", "LEVEL"),
    Column("by", "BY GRANT", wraps=True),
)
_BOTH_COLUMNS = (
    Column("mark", " "),
    Column("person", "PERSON", cuts=True),
    Column("folder", "FOLDER", cuts=True),
    Column("planned", "PLANNED"),
    Column("found", "FOUND"),
    Column("difference", "DIFFERENCE", wraps=True),
)


def _spell_address(address: Address) -> str:
    return f"{address.system}:{address.path.decode('utf-8', 'surrogateescape')}"


def _plan_row(plan: Plan, person: str, address: Address) -> tuple[Cell, ...] | None:
    rights, grants = plan.rights_at(address, person)
    if not rights:
        return None
    by = ", ".join(f"{holder} {level.value} on {_spell_address(folder.address)}" for folder, holder, level in grants)
    return person, address, level_of(rights).value, by


def plan_who_report(plan: Plan, address: Address) -> Report:
    """Say who is meant to reach a folder."""
    found = [_plan_row(plan, person, address) for person in plan.people]
    rows: list[Sequence[Cell]] = sorted((row for row in found if row), key=lambda row: (str(row[2]), str(row[0])))
    if nearest_planned(plan, address) is None:
        return Report("who", "The plan says nothing of this folder or any above it.", _PLAN_COLUMNS, [], empty="")
    headline = f"The plan means {len(rows)} of {len(plan.people)} people to reach {_spell_address(address)}."
    return Report("who", headline, _PLAN_COLUMNS, rows, empty="the plan gives nobody any right here")


def plan_reach_report(plan: Plan, person: str) -> Report:
    """Say what a person is meant to reach: the folders of the plan where that person has any right."""
    found = [_plan_row(plan, person, folder.address) for folder in plan.folders]
    rows: list[Sequence[Cell]] = [row for row in found if row]
    headline = f"The plan means {person} to reach {len(rows)} of its {len(plan.folders)} folders."
    return Report("reach", headline, _PLAN_COLUMNS, rows, empty="the plan gives this person nothing")


def differences_at(plan: Plan, address: Address, asked: Mapping[str, Access]) -> list[Difference]:
    """Compare the sides on one folder, for the plan's people and all others found; administrators apart."""
    found = []
    for person in dict.fromkeys([*plan.people, *asked]):
        planned = plan.rights_at(address, person)[0] if person in plan.people else Right.NONE
        rights = Right.NONE
        ways = asked[person].ways if person in asked else ()
        admins = {way.seat.account.login for way in ways if way.name == "admin"}
        for way in ways:
            if way.seat.account.login not in admins:
                rights |= way.rights
        found.append(Difference(person, address, planned, rights))
    return found


def both_report(name: str, differences: Iterable[Difference], subject: str) -> Report:
    """Show both sides beside each other, differences first."""
    rows: list[Sequence[Cell]] = []
    off = 0
    for each in sorted(differences, key=lambda each: (not each, each.person, each.address)):
        if not each and each.planned_level is Level.NONE:
            continue
        off += bool(each)
        found = level_of(each.found & ~Right.DELETE).value
        mark = "≠" if each else "="
        rows.append((mark, each.person, each.address, each.planned_level.value, found, each.spell()))
    headline = (
        f"{subject}: plan and found differ in {off} of {len(rows)} places."
        if off
        else f"{subject}: plan and found agree."
    )
    return Report(name, headline, _BOTH_COLUMNS, rows, empty="neither side gives anything here")
