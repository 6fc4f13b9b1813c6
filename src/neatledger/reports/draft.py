"""A draft of the plan as a report: how much it is, its text, and the questions that it leaves."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any, Protocol

from neatledger.core.drafting.folders import DraftFolder, Question
from neatledger.core.drafting.groups import DraftGroup
from neatledger.core.drafting.people import DraftPerson
from neatledger.core.plan.plan import Kind
from neatledger.core.tree.address import Address
from neatledger.formats.names import show_address, show_bytes
from neatledger.reports.report import Aside, Column, Report, Row, Show, count_of

__all__ = ["Additions", "additions_of", "draft_report"]

Additions = dict[str, dict[str, tuple[Mapping[str, Any], str]]]
"""Part of the plan → key → what is said there, and why."""


class Drafted(Protocol):
    """What would be added to the plan, and what a person must answer."""

    people: list[DraftPerson]
    groups: list[DraftGroup]
    folders: list[DraftFolder]
    homes: dict[str, list[bytes]]
    questions: list[Question]


def additions_of(found: Drafted) -> tuple[Additions, list[str]]:
    """Return what is to be written, and what cannot be: folders whose names are no text."""
    people: dict[str, tuple[Mapping[str, Any], str]] = {
        one.id: (_person(one), "; ".join(one.because)) for one in found.people
    }
    groups: dict[str, tuple[Mapping[str, Any], str]] = {one.name: (_group(one), "") for one in found.groups}
    folders: dict[str, tuple[Mapping[str, Any], str]] = {}
    unsaid = []
    for one in found.folders:
        try:
            key = f"{one.address.system}:{one.address.path.decode()}"
        except UnicodeDecodeError:
            unsaid.append(show_address(one.address))
            continue
        said: dict[str, Any] = {"closed": True} if one.closed else {}
        folders[key] = ({**said, "grants": {who: level.value for who, level in one.grants.items()}}, "")
    return {"people": people, "groups": groups, "folders": folders}, unsaid


def _person(one: DraftPerson) -> dict[str, Any]:
    accounts: dict[str, Any] = {}
    for each in one.principals:
        accounts[each.system] = each.account.login
    said: dict[str, Any] = {"name": one.name}
    if one.kind is not Kind.STAFF:
        said["kind"] = one.kind.value
    if one.email:
        said["email"] = one.email
    return {**said, "accounts": accounts}


def _group(one: DraftGroup) -> dict[str, Any]:
    said: dict[str, Any] = {"members": one.people}
    return {**said, "names": dict(one.names)} if one.names else said


def draft_report(found: Drafted, additions: Additions, unsaid: Sequence[str], done: str, when: str) -> Report:
    """Show how much was drafted, and the questions; `done` says what became of it (empty: nothing yet)."""
    columns = (
        Column("where", "WHERE", wraps=True),
        Column("question", "QUESTION", wraps=True),
        Column("part", "", Show.MACHINE),
        Column("key", "", Show.MACHINE),
        Column("because", "", Show.MACHINE),
    )
    shown: list[Row] = [{"where": _place(one.place), "question": one.text} for one in found.questions]
    rows: list[Row] = [
        {"where": "", "question": "", "part": part, "key": key, "because": why}
        for part, entries in additions.items()
        for key, (_, why) in entries.items()
    ]
    rows += [{**row, "part": "question", "key": "", "because": ""} for row in shown]
    parts = [
        count_of(len(found.people), "person"),
        count_of(len(found.groups), "group"),
        count_of(len(found.folders), "folder"),
    ]
    headline = f"Drafted from the count of {when}: {', '.join(parts)}; {count_of(len(shown), 'question')} left."
    notes: list[str] = []
    for system, paths in found.homes.items():
        notes.append(
            f"Homes of {system} seem to lie in {', '.join(map(show_bytes, paths))}: homes: [...] in its system."
        )
    if unsaid:
        notes.append(f"Names that are no text, which a plan cannot say: {', '.join(unsaid)}.")
    notes.append(
        done or Aside("draft --text prints it, draft --write adds it to office.yaml, draft --undo takes it out.")
    )
    return Report("draft", headline, columns, rows, notes, "no questions", shown)


def _place(place: Address | str) -> str:
    return show_address(place) if isinstance(place, Address) else place
