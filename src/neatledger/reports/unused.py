"""Rights that nobody used, as rows; and what would be missed if they were gone."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import date, datetime
from enum import Enum
from typing import Protocol

from neatledger.core.lists.rights import Level
from neatledger.core.tree.address import Address
from neatledger.formats.names import show_address
from neatledger.reports.assurances import assured
from neatledger.reports.report import Aside, Column, Report, Row, Show, count_of

__all__ = ["missed_report", "unused_report"]

_COLUMNS = (
    Column("kind", "WHAT"),
    Column("system", "SYSTEM", Show.MACHINE),
    Column("name", "OF WHOM"),
    Column("person", "PERSON", Show.MACHINE),
    Column("where", "WHERE", cuts=True),
    Column("level", "LEVEL"),
    Column("people", "PEOPLE", number=True),
    Column("folders", "FOLDERS", number=True),
    Column("last", "LAST USED"),
    Column("last_by", "BY", spare=True),
    Column("seen_since", "SEEN SINCE"),
    Column("there_since", "THERE SINCE", Show.MACHINE),
    Column("why", "WHY", Show.PEOPLE, wraps=True, spare=True),
)


class Unused(Protocol):
    """One right that nobody used."""

    @property
    def kind(self) -> Enum: ...
    @property
    def system(self) -> str: ...
    @property
    def address(self) -> Address | None: ...
    @property
    def name(self) -> str: ...
    @property
    def level(self) -> Level | None: ...
    @property
    def people(self) -> int: ...
    @property
    def folders(self) -> int: ...
    @property
    def last(self) -> datetime | None: ...
    @property
    def last_by(self) -> str: ...
    @property
    def seen_since(self) -> datetime: ...
    @property
    def there_since(self) -> date: ...
    @property
    def is_older(self) -> bool: ...
    @property
    def person(self) -> str: ...


class Unknown(Protocol):
    """A system of whose rights nothing is said, and why."""

    @property
    def system(self) -> str: ...
    @property
    def why(self) -> str: ...


class Answer(Protocol):
    """What is unused for so many days."""

    @property
    def days(self) -> int: ...
    @property
    def found(self) -> Sequence[Unused]: ...
    @property
    def unknown(self) -> Sequence[Unknown]: ...
    @property
    def young(self) -> int: ...


_WORDS = {
    "group": "nobody in it uses anything that it gives",
    "entry": "nobody uses what it gives",
    "member": "others in it use it, they do not",
    "change": "it is only read by it",
    "account": "no use is logged",
    "hand-out": "nobody to whom it was handed uses it",
    "link": "nobody uses it, says the service",
}


def unused_report(found: Answer, about: str) -> Report:
    """List what is unused, the longest first; systems of which nothing is known are named, not left out."""
    rows = [_row(one) for one in found.found]
    headline = f"{count_of(len(rows), 'right')} unused for {count_of(found.days, 'day')}{about}."
    if not rows and found.unknown:
        headline = f"What is unused{about} is not known on {', '.join(one.system for one in found.unknown)}."
    notes: list[str] = [f"{one.system}: nothing is known: {one.why}." for one in found.unknown]
    if found.young:
        notes.append(f"{count_of(found.young, 'more')} younger than that, or given since, are not told.")
    if any(one.is_older for one in found.found):
        day = min(one.there_since for one in found.found if one.is_older)
        notes.append(f"The oldest count is of {day}: whether they were there before that is not known.")
    if rows:
        notes.append(Aside("never: not since the day in SEEN SINCE, from when on the logs are complete."))
        notes.append(Aside("--try shows who would have missed something of it in the last year, and the steps."))
    days = count_of(found.days, "day")
    said = assured(
        "unused", not (rows or found.unknown or found.young), "nothing that is known to be unused", days=days
    )
    return Report("unused", headline, _COLUMNS, said.or_rows(rows), notes, said.text, is_assured=said.is_assured)


def _row(one: Unused) -> Row:
    return {
        "kind": one.kind.value,
        "system": one.system,
        "name": _name(one),
        "person": one.person,
        "where": one.system if one.address is None else one.address,
        "level": "" if one.level is None else one.level.value,
        "people": one.people,
        "folders": one.folders,
        "last": "never" if one.last is None else one.last.astimezone().strftime("%Y-%m-%d"),
        "last_by": one.last_by,
        "seen_since": one.seen_since.astimezone().strftime("%Y-%m-%d"),
        "there_since": one.there_since.isoformat(),
        "why": _WORDS[one.kind.value],
    }


def _name(one: Unused) -> str:
    return f"{one.person} in {one.name}" if one.kind.value == "member" else one.name


class Missed(Protocol):
    """What would have been refused to somebody in a folder."""

    @property
    def person(self) -> str: ...
    @property
    def address(self) -> Address: ...
    @property
    def use(self) -> Enum: ...
    @property
    def number(self) -> int: ...
    @property
    def last(self) -> datetime: ...


_MISSED_COLUMNS = (
    Column("person", "WHO"),
    Column("where", "WHERE", cuts=True),
    Column("use", "TO"),
    Column("number", "TIMES", number=True),
    Column("last", "LAST"),
)


def missed_report(
    missed: Sequence[Missed],
    by_hand: Sequence[tuple[Unused, str]],
    steps: int,
    asked: int,
    unknown: Sequence[Unknown],
) -> Report:
    """Show what steps would have refused within the last year, and what no step does."""
    rows: list[Row] = [
        {
            "person": one.person,
            "where": one.address,
            "use": one.use.name.lower(),
            "number": one.number,
            "last": one.last.astimezone().strftime("%Y-%m-%d"),
        }
        for one in sorted(missed, key=lambda one: (one.last, one.number), reverse=True)
    ]
    number = sum(one.number for one in missed)
    headline = f"{count_of(steps, 'step')} would take {count_of(asked - len(by_hand), 'unused right')} away"
    headline += f"; {count_of(number, 'use')} of the last year would have been refused." if number else "."
    notes = [
        f"By hand: {one.kind.value} {_name(one)}"
        f"{f' on {show_address(one.address)}' if one.address is not None else ''}: {why}."
        for one, why in by_hand
    ]
    notes += [f"{one.system}: nothing is known: {one.why}." for one in unknown]
    said = assured("missed", not rows and not unknown, "no record tells that anybody would have missed it")
    return Report(
        "missed", headline, _MISSED_COLUMNS, said.or_rows(rows), notes, said.text, is_assured=said.is_assured
    )
