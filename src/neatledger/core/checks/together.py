"""Folders in which a group may write, and what one of its members makes the others cannot change."""

from __future__ import annotations

from collections.abc import Iterator

from neatledger.core.checks.contract import Check, Finding, OfficeFacts, Severity, SystemFacts
from neatledger.core.plan.plan import Kind
from neatledger.core.steps.contract import ItemState
from neatledger.core.steps.together import Apart, find_apart, planned_alike
from neatledger.core.steps.wanted import Meant

__all__ = ["CHECKS"]

_FEW = 4


def _kept_apart(office: OfficeFacts) -> Iterator[Finding]:
    for facts in office.systems:
        if not facts.is_service and facts.bodies:
            yield from _on(office, facts)


def _on(office: OfficeFacts, facts: SystemFacts) -> Iterator[Finding]:
    plan, folders, model = office.plan, facts.folders, facts.everyone.matrix.model
    people = [one for one in facts.principals if one.is_planned and one.kind is not Kind.SERVICE]
    people = [one for one in people if model.overrides(one.holder) is None]
    lists, defaults, owners, parent = (folders[name].tolist() for name in ("list", "default", "owner", "parent"))
    for planned, writers, rows in planned_alike(plan, facts.name, folders, people):
        rights = {one.person: plan.rights_at(planned.address, one.person)[0] for one in people}
        meant = Meant(model.name, people, rights, (), {})
        known: dict[tuple[int, int], Apart | None] = {}
        found: dict[int, Apart] = {}
        for row in rows:
            key = lists[row], defaults[row]
            if key not in known:
                default = None if defaults[row] < 0 else facts.bodies[defaults[row]]
                item = ItemState(facts.everyone.matrix.idents[owners[row]], facts.bodies[lists[row]], default)
                is_read = item.body != model.unread
                known[key] = find_apart(model.name, item, meant, writers) if is_read else None
            apart = known[key]
            if apart is not None:
                found[row] = apart
        for row, apart in found.items():
            # Where the folder above is the same it is told there.
            if parent[row] not in found:
                yield Finding("members-kept-apart", facts.address(row), _tell(apart), people=apart.others)


def _tell(apart: Apart) -> str:
    more = f" and {len(apart.others) - _FEW} more" if len(apart.others) > _FEW else ""
    others = f"{', '.join(apart.others[:_FEW])}{more}"
    if apart.is_folder:
        return f"to a folder that {apart.maker} makes there {others} cannot add"
    return f"a file that {apart.maker} makes there {others} cannot change"


CHECKS = (
    Check(
        "members-kept-apart",
        Severity.LOW,
        "members of a group cannot change each other's files",
        "let what is made there get the folder's group and list: mend has the step",
        _kept_apart,
    ),
)
