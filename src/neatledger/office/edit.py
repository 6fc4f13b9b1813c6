"""Edit office.yaml in place: comments, order and quoting stay as they were."""

from __future__ import annotations

import io
from collections.abc import Iterable, Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

from ruamel.yaml import YAML
from ruamel.yaml.comments import CommentedMap, CommentedSeq

from neatledger.core.plan.limits import On
from neatledger.core.space.bands import Restating, own_fields
from neatledger.core.space.sizes import NO_LIMIT, spell_size
from neatledger.errors import OfficeError
from neatledger.files import locked, write_file
from neatledger.office.read import PLAN_NAME, parse_plan

__all__ = ["add_acceptance", "add_accounts", "write_restating"]


def add_acceptance(office_dir: Path, check: str, place: str, reason: str, until: str | None) -> None:
    """Add an accepted finding to the plan; raises `OfficeError`, or `PlanError` where the result would not do."""
    entry = CommentedMap({"check": check, "place": place, "reason": reason})
    if until:
        entry["until"] = until
    with _editing(office_dir) as plan:
        if not plan.get("accepted"):
            plan["accepted"] = CommentedSeq()
        plan["accepted"].append(entry)


def add_accounts(office_dir: Path, accounts: Iterable[tuple[str, str, str]]) -> None:
    """Give accounts to people of the plan: (person, system, login); raises as `add_acceptance`."""
    with _editing(office_dir) as plan:
        for person, system, login in accounts:
            if plan["people"][person] is None:
                plan["people"][person] = CommentedMap()
            has = plan["people"][person].setdefault("accounts", CommentedMap())
            before = has.get(system)
            if before is None:
                has[system] = login
            else:
                has[system] = [*([before] if isinstance(before, str) else before), login]


_PARTS = {On.FOLDER: "folders", On.PERSON: "people", On.GROUP: "groups"}
_KEYS = {"limit": "limit", "enforced": "rule", "grace_days": "grace-days", "warn": "warn"}


def _yaml_field(name: str, value: Any) -> Any:
    match name:
        case "limit":
            return NO_LIMIT if value is None else spell_size(value)
        case "enforced":
            return "enforced" if value else "watched"
        case "warn":
            return CommentedMap({level: _flow(list(who)) for level, who in value})
        case _:
            return value


def _flow(names: list[str]) -> CommentedSeq:
    found = CommentedSeq(names)
    found.fa.set_flow_style()
    return found


def write_restating(office_dir: Path, found: Restating) -> None:
    """Write a restated band into the plan, and what becomes of the places that have it; raises as `add_acceptance`.

    Exceptions that end lose what they state themselves; places that keep what they have get an entry of their
    own, with since when and why.
    """
    with _editing(office_dir) as plan:
        band = plan["bands"][found.after.name]
        if band is None:
            band = plan["bands"][found.after.name] = CommentedMap()
        for name, value in found.after.stated.items():
            if name not in found.before.stated or found.before.stated[name] != value:
                band[_KEYS[name]] = _yaml_field(name, value)
        for move in found.dropped:
            entry = plan["limits"][_PARTS[move.status.target.on]][
                move.status.planned.key if move.status.planned else ""
            ]
            for key in (*_KEYS.values(), "since", "because"):
                entry.pop(key, None)
        for move in found.kept:
            part = plan["limits"][_PARTS[move.status.target.on]]
            entry = part.get(move.status.target.key)
            if entry is None:
                entry = part[move.status.target.key] = CommentedMap({"band": found.after.name})
                entry.fa.set_flow_style()
            for name, value in own_fields(move, found.after).items():
                entry[_KEYS[name]] = _yaml_field(name, value)
            entry["since"] = found.day.isoformat()
            entry["because"] = move.outcome.value.removeprefix("kept: ")


@contextmanager
def _editing(office_dir: Path) -> Iterator[Any]:
    """Give the plan to be altered; written back where the result is a plan still."""
    path = office_dir / PLAN_NAME
    yaml = _yaml()
    # Nobody else's edit may come between reading and writing: it would be lost.
    with locked(office_dir):
        try:
            plan = yaml.load(path.read_text("utf-8"))
        except OSError as error:
            raise OfficeError(f"cannot read the plan: {error.strerror}", str(path)) from None
        yield plan
        out = io.StringIO()
        yaml.dump(plan, out)
        parse_plan(out.getvalue(), str(path))
        write_file(path, out.getvalue().encode("utf-8"))


def _yaml() -> YAML:
    yaml = YAML()
    yaml.preserve_quotes = True
    yaml.width = 4096
    yaml.indent(mapping=2, sequence=4, offset=2)
    return yaml
