"""The groups of both sides, and who is in them."""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from dataclasses import replace

from neatledger.core.lists.identifiers import WELL_KNOWN
from neatledger.core.lists.nesting import find_cycles
from neatledger.core.people.principals import Principal
from neatledger.core.plan.plan import Plan
from neatledger.core.survey.accounts import ANYONE_ELSE, Group
from neatledger.reports.report import Aside, Cell, Column, Report, Row, count_of

__all__ = ["groups_report", "of_groups"]

_COLUMNS = (
    Column("group", "GROUP", cuts=True),
    Column("system", "SYSTEM"),
    Column("id", "ID", number=True, spare=True),
    Column("count", "PEOPLE", number=True),
    Column("members", "MEMBERS", wraps=True),
    Column("nested", "GROUPS IN IT", cuts=True),
    Column("untold", "NOT TOLD", cuts=True),
    Column("difference", "AGAINST THE PLAN", wraps=True),
)


def _members(group: Group, principals: Sequence[Principal]) -> list[str]:
    return list(dict.fromkeys(principal.person for principal in principals if group.ident in principal.holder.groups))


def groups_report(
    plan: Plan,
    groups: Mapping[str, Sequence[Group]],
    principals: Mapping[str, Sequence[Principal]],
    *,
    side: str,
    is_all: bool,
) -> Report:
    """List the groups: the plan's, those found, or both with what differs."""
    rows: list[Row] = []
    shown: list[Row] = []
    off = 0
    if side in ("plan", "both"):
        for name, planned in plan.groups.items():
            inner = tuple(member for member in planned.members if member in plan.groups)
            people = sorted(plan.members[name])
            rows.append(_row(name, "plan", "", people, inner, (), ""))
    shown += rows
    planned_names = {
        (system, plan.groups[name].names.get(system, name)): name for name in plan.groups for system in groups
    }
    for system, found in groups.items() if side != "plan" else ():
        called = {group.ident: group.name for group in found} | WELL_KNOWN
        for group in found:
            people = _members(group, principals[system])
            of_plan = planned_names.get((system, group.name))
            difference = _difference(plan, of_plan, group, people, principals[system]) if of_plan else ""
            off += bool(difference)
            inner = tuple(called.get(one, one) for one in group.nested)
            untold = tuple("all but these" if one == ANYONE_ELSE else called.get(one, one) for one in group.untold)
            row = _row(group.name, system, group.ident, people, inner, untold, difference)
            rows.append(row)
            is_own = not of_plan and len(people) <= 1 and not group.nested and not group.untold
            shown += [] if is_own and not is_all else [row]
    nested = {name: [m for m in group.members if m in plan.groups] for name, group in plan.groups.items()}
    notes = [f"A ring in the plan: {' in '.join((*ring, ring[0]))}." for ring in find_cycles(nested)]
    hidden = len(rows) - len(shown)
    if hidden:
        are = "is" if hidden == 1 else "are"
        notes.append(Aside(f"{count_of(hidden, 'group')} with one member or none {are} not shown (groups -a)."))
    differ = f"; {off:,} {'differs' if off == 1 else 'differ'} from the plan" if off else ""
    empty = "none has two members" if rows else "no groups"
    return Report("groups", f"{count_of(len(rows), 'group')}{differ}.", _COLUMNS, rows, notes, empty, shown)


def of_groups(report: Report, names: Mapping[str, Collection[str]]) -> Report:
    """Return the report with the rows of some groups alone; `names` has each with all that it is called."""
    every = {name for called in names.values() for name in called}
    rows, shown = ([row for row in some if row["group"] in every] for some in (report.rows, report.shown))
    people = len({person for row in rows for person in _texts(row["members"])})
    headline = f"{', '.join(names)}: {count_of(people, 'person')}."
    return replace(report, headline=headline, rows=rows, folded=shown, notes=[])


def _texts(cell: Cell) -> tuple[str, ...]:
    return cell if isinstance(cell, tuple) else ()


def _row(
    name: str,
    system: str,
    ident: str,
    people: Sequence[str],
    nested: Sequence[str],
    untold: Sequence[str],
    difference: str,
) -> Row:
    return {
        "group": name,
        "system": system,
        "id": ident,
        "count": len(people),
        "members": tuple(people),
        "nested": tuple(nested),
        "untold": tuple(untold),
        "difference": difference,
    }


def _difference(plan: Plan, name: str, group: Group, people: Sequence[str], principals: Sequence[Principal]) -> str:
    meant = {person for person in plan.members[name] if any(principal.person == person for principal in principals)}
    lacking, beyond = sorted(meant - set(people)), sorted(set(people) - plan.members[name])
    word = "it is not told of" if any(group.ident in one.holder.maybe for one in principals) else "lacks"
    parts = [f"{word} {', '.join(lacking)}"] if lacking else []
    parts += [f"also has {', '.join(beyond)}"] if beyond else []
    return "; ".join(parts)
