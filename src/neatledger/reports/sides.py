"""The plan's side of a question, and both sides beside each other."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence

from neatledger.core.access.differences import Difference, nearest_planned
from neatledger.core.lists.rights import Level, Right, level_of
from neatledger.core.plan.plan import Plan
from neatledger.core.tree.address import Address
from neatledger.reports.assurances import assured
from neatledger.reports.report import Column, Report, Row, count_of

__all__ = ["both_report", "plan_folders_report", "plan_reach_report", "plan_who_report"]

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


def _plan_row(plan: Plan, person: str, address: Address) -> Row | None:
    rights, grants = plan.rights_at(address, person)
    if not rights:
        return None
    by = ", ".join(f"{holder} {level.value} on {_spell_address(folder.address)}" for folder, holder, level in grants)
    return {"person": person, "folder": address, "level": level_of(rights).value, "by": by}


def plan_who_report(plan: Plan, address: Address) -> Report:
    """Say who is meant to reach a folder."""
    found = [_plan_row(plan, person, address) for person in plan.people]
    rows = sorted((row for row in found if row), key=lambda row: (str(row["level"]), str(row["person"])))
    if nearest_planned(plan, address) is None:
        return Report("who", "The plan says nothing of this folder or any above it.", _PLAN_COLUMNS, [], empty="")
    headline = f"The plan means {len(rows)} of {len(plan.people)} people to reach {_spell_address(address)}."
    return Report("who", headline, _PLAN_COLUMNS, rows, empty="the plan gives nobody any right here")


def plan_reach_report(plan: Plan, people: Sequence[str], name: str, below: Address | None = None) -> Report:
    """Say what people are meant to reach: the folders of the plan where each has any right, all or those in one.

    Of a folder that the plan does not name its word for it comes first.
    """
    places = [folder.address for folder in plan.folders if below is None or folder.address.is_within(below)]
    if below is not None and below not in places:
        places.insert(0, below)
    found = [_plan_row(plan, person, place) for place in places for person in people]
    rows = [row for row in found if row]
    who = people[0] if len(people) == 1 else count_of(len({row["person"] for row in rows}), "person")
    folders = len({row["folder"] for row in rows})
    all_of_it = f"{'its ' if below is None else ''}{count_of(len(places), 'folder')}"
    headline = f"The plan means {who} to reach {folders} of {all_of_it}."
    return Report(name, headline, _PLAN_COLUMNS, rows, empty="the plan gives nothing")


_FOLDER_COLUMNS = (
    Column("mark", " "),
    Column("folder", "FOLDER", cuts=True),
    Column("grants", "GRANTS", wraps=True),
    Column("inherits", "INHERITS"),
    Column("found", "FOUND"),
)


_THERE = {True: ("=", "yes"), False: ("≠", "not there"), None: ("?", "not seen")}


def plan_folders_report(plan: Plan, is_there: Mapping[Address, bool | None]) -> Report:
    """List the folders of the plan with their grants, and those in `is_there` with whether they were found."""
    rows: list[Row] = []
    for folder in plan.folders:
        grants = tuple(f"{holder} {level.value}" for holder, level in folder.grants.items())
        grants += (f"owner {folder.owner}",) if folder.owner else ()
        mark, found = _THERE[is_there[folder.address]] if folder.address in is_there else ("", "")
        rows.append(
            {
                "mark": mark,
                "folder": folder.address,
                "grants": grants,
                "inherits": "no (closed)" if folder.closed else "yes",
                "found": found,
            }
        )
    missing, unseen = (sum(row["mark"] == mark for row in rows) for mark in "≠?")
    message = f"; {missing} of them not there" if missing else ""
    message += f"; of {unseen} it was not seen" if unseen else ""
    return Report("folders", f"The plan names {count_of(len(rows), 'folder')}{message}.", _FOLDER_COLUMNS, rows)


def _found_word(each: Difference) -> str:
    if not each.is_known:
        return Level.UNKNOWN.value
    return level_of(each.found & ~Right.DELETE).value if each.is_there else "not there"


def both_report(name: str, differences: Iterable[Difference], subject: str) -> Report:
    """Show both sides beside each other, differences first."""
    rows: list[Row] = []
    off = unknown = 0
    for each in sorted(differences, key=lambda each: (not each, each.person, each.address)):
        if not each and each.planned_level is Level.NONE and each.is_known:
            continue
        off += bool(each)
        unknown += not each and not each.is_known
        rows.append(
            {
                "mark": "≠" if each else "=" if each.is_known else "?",
                "person": each.person,
                "folder": each.address,
                "planned": each.planned_level.value,
                "found": _found_word(each),
                "difference": each.spell(),
            }
        )
    places = count_of(len(rows), "place")
    headline = (
        f"{subject}: plan and found differ in {off} of {places}"
        if off
        else f"{subject}: of {places} none is known to differ"
    )
    headline += f"; of {unknown:,} it is not known" if unknown else ""
    if not rows:
        headline = f"{subject}: the plan gives nothing here, and nothing was found that it speaks of"
    said = assured("both-sides", bool(rows) and not off and not unknown, headline, subject=subject, places=places)
    empty = "neither side gives anything here"
    return Report(name, f"{said.text}.", _BOTH_COLUMNS, rows, empty=empty, is_assured=said.is_assured)
