"""A draft of the plan as a report: how much it is, its text, and the questions that it leaves."""

from __future__ import annotations

import os
import re
from collections.abc import Mapping, Sequence
from typing import Any, Protocol

from neatledger.core.drafting.folders import DraftFolder, Question
from neatledger.core.drafting.groups import DraftGroup
from neatledger.core.drafting.limits import DraftLimits
from neatledger.core.drafting.people import DraftPerson
from neatledger.core.drafting.sharing import DraftRules
from neatledger.core.plan.limits import UNLIMITED, On, Settings
from neatledger.core.plan.plan import Kind
from neatledger.core.plan.rules import RuleOn, SharingRule
from neatledger.core.space.sizes import NO_LIMIT, spell_size
from neatledger.core.tree.address import Address
from neatledger.formats.names import show_address, show_bytes
from neatledger.reports.report import Column, Pointer, Report, Row, Show, count_of
from neatledger.reports.split import Placed, split_additions

__all__ = ["Additions", "additions_of", "draft_report"]

Additions = dict[str, dict[str, tuple[Any, str]]]
"""Part of the plan (`limits/folders`: the folders of its limits) → key → what is said there, and why."""


class Drafted(Protocol):
    """What would be added to the plan, and what a person must answer."""

    people: list[DraftPerson]
    groups: list[DraftGroup]
    folders: list[DraftFolder]
    homes: dict[str, list[bytes]]
    limits: DraftLimits
    pools: dict[str, tuple[str, ...]]
    rules: dict[str, DraftRules]

    @property
    def split(self) -> Sequence[Placed]: ...

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
    found_homes: Additions = {
        f"systems/{system}": {"homes": (tuple(map(os.fsdecode, paths)), "")} for system, paths in found.homes.items()
    }
    whole: Additions = {"people": people, "groups": groups, "folders": folders}
    additions = found_homes | whole | _of_space(found) | _of_sharing(found)
    for part, entries in split_additions(found.split).items():
        additions[part] = {**additions.get(part, {}), **entries}
    return additions, unsaid


_PLACES = {On.FOLDER: "limits/folders", On.PERSON: "limits/people", On.GROUP: "limits/groups"}


def _of_space(found: Drafted) -> Additions:
    parts: Additions = {
        "bands": {name: (_settings(one), "") for name, one in found.limits.bands.items()},
        **{part: {} for part in _PLACES.values()},
        "pools": {name: ({"holds": holds}, "on one file system") for name, holds in found.pools.items()},
    }
    for one in found.limits.limits:
        said: dict[str, Any] = {"band": one.band} if one.band else {}
        if one.own is not None:
            usual = _settings(found.limits.bands[one.band]) if one.band else {}
            said |= {key: value for key, value in _settings(one.own).items() if usual.get(key) != value}
        if one.why:
            said["because"] = "found so"
        parts[_PLACES[one.on]][one.key] = said, one.why
    return parts


def _settings(one: Settings) -> dict[str, Any]:
    said: dict[str, Any] = {"limit": NO_LIMIT if one.limit is UNLIMITED else spell_size(one.limit)}
    if not one.enforced:
        said["rule"] = "watched"
        if one.grace_days is not None:
            said["grace-days"] = one.grace_days
    return said


def _of_sharing(found: Drafted) -> Additions:
    parts: Additions = {"sharing/systems": {}, "sharing/people": {}, "sharing/folders": {}}
    for system, rules in found.rules.items():
        said = _rule(rules.whole)
        if said:
            parts["sharing/systems"][system] = said, f"as {system} has it, and as it is lived"
        for one in rules.others:
            if one.on is RuleOn.PERSON:
                parts["sharing/people"][one.name] = _rule(one.rule), f"as {system} has it"
            elif one.on is RuleOn.FOLDER:
                parts["sharing/folders"][f"{system}:{one.name}"] = _rule(one.rule), f"as {system} has it"
    return parts


def _rule(one: SharingRule) -> dict[str, Any]:
    """Return a rule by the keys of a plan."""
    found: dict[str, Any] = {}
    for name, value in one.to_facts().items():
        key = {"barred": "barred-kinds"}.get(name, name.replace("_", "-"))
        if name == "guests" and one.guests is not None:
            value = one.guests.word
        elif name == "largest":
            value = NO_LIMIT if one.largest is UNLIMITED else spell_size(value)
        found[key] = tuple(value) if isinstance(value, list) else value
    return found


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
        Column("number", "#", Show.PEOPLE, number=True),
        Column("where", "WHERE", Show.MACHINE),
        Column("question", "QUESTION", Show.MACHINE),
        Column("asked", "QUESTION", Show.PEOPLE, wraps=True),
        Column("answer", "TO ANSWER", Show.PEOPLE),
        Column("part", "", Show.MACHINE),
        Column("key", "", Show.MACHINE),
        Column("because", "", Show.MACHINE),
    )
    asked: list[Row] = [{"where": _place(one.place), "question": one.text} for one in found.questions]
    shown = [{**row, "number": number} for number, row in enumerate(_folded(found.questions), start=1)]
    rows: list[Row] = [
        {"where": "", "question": "", "part": part, "key": key, "because": why}
        for part, entries in additions.items()
        for key, (_, why) in entries.items()
    ]
    rows += [{**row, "part": "question", "key": "", "because": ""} for row in asked]
    parts = [
        count_of(len(found.people), "person"),
        count_of(len(found.groups), "group"),
        count_of(len(found.folders), "folder"),
    ]
    more = (
        (len(found.limits.bands), "band"), (len(found.limits.limits), "limit"), (len(found.pools), "pool"),
        (len(found.split), "rhythm"),
        (sum(bool(one) for part in ("systems", "people", "folders") for one in additions[f"sharing/{part}"]), "rule"),
    )  # fmt: skip
    parts += [count_of(*one) for one in more if one[0]]
    left = f"{count_of(len(shown), 'question')} {'is' if len(shown) == 1 else 'are'} yours to answer."
    headline = f"The draft adds {', '.join(parts)}. {left if asked else 'It leaves no question.'}"
    headline += "" if done else " Nothing was written."
    notes: list[str] = []
    for system, paths in found.homes.items():
        notes.append(f"Homes of {system} seem to lie in {', '.join(map(show_bytes, paths))}.")
    if unsaid:
        notes.append(f"Names that are no text, which a plan cannot say: {', '.join(unsaid)}.")
    notes += [done] if done else []
    report = Report("draft", headline, columns, rows, notes, "no questions", shown)
    if not done:
        report.pointers = [
            Pointer("Read the draft", "draft --text"),
            Pointer("Put it into office.yaml, marked", "draft --write"),
            Pointer("Take it out again", "draft --undo"),
        ]
    return report


def _folded(questions: Sequence[Question]) -> list[Row]:
    """Return the questions as people are asked them: what is asked of several on one system is one row."""
    together: dict[tuple[str, str], list[str]] = {}
    for one in questions:
        system, colon, name = _place(one.place).partition(": ")
        key = (system, one.text) if colon else (_place(one.place), one.text)
        together.setdefault(key, []).append(name)
    rows: list[Row] = []
    for (where, text), names in together.items():
        place = f"{where}: {', '.join(names)}" if any(names) else where
        answer = "people --match" if "people --match" in text else "in the plan"
        rows.append({"where": where, "question": text, "asked": f"{place}: {_brief(text)}", "answer": answer})
    return rows


def _brief(text: str) -> str:
    """Return a question without what only the draft's own text needs."""
    text = text.replace(" (people --match)", "")
    return re.sub(r"the same (e-mail address|login), \S+", r"same \1", text).replace("e-mail address", "e-mail")


def _place(place: Address | str) -> str:
    return show_address(place) if isinstance(place, Address) else place
