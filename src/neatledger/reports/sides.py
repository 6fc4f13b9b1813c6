"""The plan's side of a question, and both sides beside each other."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence

from neatledger.core.access.differences import Difference, nearest_planned
from neatledger.core.access.ways import Access
from neatledger.core.lists.rights import Level, Right, level_of
from neatledger.core.plan.plan import Plan
from neatledger.core.tree.address import Address
from neatledger.reports.report import Cell, Column, Report, count_of

__all__ = ["both_report", "differences_at", "plan_folders_report", "plan_reach_report", "plan_who_report"]

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


def plan_reach_report(plan: Plan, people: Sequence[str], name: str) -> Report:
    """Say what people are meant to reach: the folders of the plan where each has any right."""
    found = [_plan_row(plan, person, folder.address) for folder in plan.folders for person in people]
    rows: list[Sequence[Cell]] = [row for row in found if row]
    who = people[0] if len(people) == 1 else count_of(len({row[0] for row in rows}), "person")
    folders = len({row[1] for row in rows})
    headline = f"The plan means {who} to reach {folders} of its {count_of(len(plan.folders), 'folder')}."
    return Report(name, headline, _PLAN_COLUMNS, rows, empty="the plan gives nothing")


_FOLDER_COLUMNS = (
    Column("mark", " "),
    Column("folder", "FOLDER", cuts=True),
    Column("grants", "GRANTS", wraps=True),
    Column("inherits", "INHERITS"),
    Column("found", "FOUND"),
)


def plan_folders_report(plan: Plan, is_there: Mapping[Address, bool] | None) -> Report:
    """List the folders of the plan with their grants; with `is_there`, also whether each was found."""
    rows: list[Sequence[Cell]] = []
    for folder in plan.folders:
        grants = tuple(f"{holder} {level.value}" for holder, level in folder.grants.items())
        grants += (f"owner {folder.owner}",) if folder.owner else ()
        found = None if is_there is None else is_there.get(folder.address, False)
        mark = "" if found is None else "=" if found else "≠"
        inherits = "no (closed)" if folder.closed else "yes"
        rows.append(
            (mark, folder.address, grants, inherits, "" if found is None else "yes" if found else "not there")
        )
    missing = sum(row[0] == "≠" for row in rows)
    message = f"; {missing} of them not there" if missing else ""
    return Report("folders", f"The plan names {count_of(len(rows), 'folder')}{message}.", _FOLDER_COLUMNS, rows)


def differences_at(plan: Plan, address: Address, asked: Mapping[str, Access]) -> list[Difference]:
    """Compare the sides on one folder, for the plan's people and all others found; administrators apart."""
    found = []
    for person in dict.fromkeys([*plan.people, *asked]):
        planned, _ = plan.rights_at(address, person)
        rights = Right.NONE
        ways = asked[person].ways if person in asked else ()
        admins = {way.principal.account.login for way in ways if way.name == "admin"}
        if person not in plan.people and all(way.principal.account.login in admins for way in ways):
            continue
        for way in ways:
            if way.principal.account.login not in admins:
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
