"""Edit the people of office.yaml in place: somebody comes, holds other posts, or leaves."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from datetime import date
from pathlib import Path
from typing import Any

from ruamel.yaml.comments import CommentedMap

from neatledger.core.plan.plan import Plan
from neatledger.core.plan.posts import HeldPost
from neatledger.errors import OfficeError
from neatledger.office.edit import editing, flowing, mapping_at, to_text

__all__ = ["Arrival", "add_person", "arrival_text", "put_last_day", "put_move"]


@dataclass(frozen=True, slots=True)
class Arrival:
    """Somebody who is to be added to the plan: their words there, groups that list them, and a home with a band."""

    id: str
    words: Mapping[str, Any]
    groups: Sequence[str] = ()
    home: str = ""
    band: str = ""
    comment: str = field(default="")


def arrival_text(one: Arrival) -> str:
    """Return somebody as they would stand in the plan."""
    made = CommentedMap({one.id: flowing(dict(one.words))})
    if one.comment:
        made.yaml_add_eol_comment(one.comment, one.id)
    return to_text(CommentedMap({"people": made}))


def add_person(office_dir: Path, one: Arrival, *, only_try: bool = False) -> Plan:
    """Add somebody to the plan, and return the plan as it reads then.

    Raises `OfficeError`, also where somebody has the id already, and `PlanError` where the result would not do.
    """
    results: list[Plan] = []
    with editing(office_dir, only_try=only_try, results=results) as edited:
        if not edited.get("people"):
            edited["people"] = CommentedMap()
        if one.id in edited["people"]:
            raise OfficeError(f"the plan has a person {one.id!r} already", str(office_dir), "--id: another one")
        edited["people"][one.id] = flowing(dict(one.words))
        if one.comment:
            edited["people"].yaml_add_eol_comment(one.comment, one.id)
        for name in one.groups:
            _list_in(edited, name, one.id)
        if one.band:
            for part in ("limits", "folders"):
                above = edited if part == "limits" else edited["limits"]
                if not above.get(part):
                    above[part] = CommentedMap()
            edited["limits"]["folders"].setdefault(one.home, flowing({"band": one.band}))
    return results[0]


def _list_in(edited: Any, group: str, person: str) -> None:
    found = mapping_at(edited["groups"], group)
    members = found.get("members")
    if members is None:
        found["members"] = flowing((person,))
    elif person not in members:
        members.append(person)


def put_move(
    office_dir: Path,
    person: str,
    posts: Sequence[HeldPost],
    accounts: Mapping[str, str],
    unlisted: Sequence[str],
    *,
    only_try: bool = False,
) -> Plan:
    """Write which posts somebody holds, with new accounts, and take them out of the groups that list them.

    Returns the plan as it reads then; raises as `add_person`.
    """
    results: list[Plan] = []
    with editing(office_dir, only_try=only_try, results=results) as edited:
        one = mapping_at(edited["people"], person)
        one["posts"] = flowing(tuple(_post_words(each) for each in posts))
        if accounts:
            if not one.get("accounts"):
                one["accounts"] = flowing({})
            mapping_at(one, "accounts").update(accounts)
        for name in unlisted:
            members = mapping_at(edited["groups"], name)["members"]
            members.remove(person)
    return results[0]


def _post_words(one: HeldPost) -> Any:
    words: dict[str, Any] = {"post": one.post}
    words |= {"from": one.start} if one.start else {}
    words |= {"until": one.until} if one.until else {}
    words |= {"because": one.because} if one.because else {}
    return words if len(words) > 1 else one.post


def put_last_day(
    office_dir: Path,
    person: str,
    last_day: date,
    successor: str,
    successors: Mapping[str, str],
    *,
    only_try: bool = False,
) -> Plan:
    """Write somebody's last day, and who takes over; return the plan as it reads then; raises as `add_person`."""
    results: list[Plan] = []
    with editing(office_dir, only_try=only_try, results=results) as edited:
        one = mapping_at(edited["people"], person)
        one["end"] = last_day
        if successor:
            one["successor"] = successor
        if successors:
            one["successors"] = flowing({**dict(one.get("successors") or {}), **successors})
    return results[0]
