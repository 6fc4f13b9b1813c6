"""A pack of questions for one who decides, and what comes back: records, and what makes an answer fit."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from datetime import date
from enum import Enum
from typing import Any

from neatledger.core.lists.rights import Level
from neatledger.core.tree.address import Address

__all__ = [
    "AS_PLANNED",
    "CHANGEABLE",
    "LESS",
    "MORE",
    "Answer",
    "AnsweredRow",
    "Choice",
    "Decision",
    "Pack",
    "PackRow",
    "faults_of",
]


class Choice(Enum):
    """What may be decided of a row."""

    KEEP = "keep"
    REMOVE = "remove"
    CHANGE = "change"


MORE, LESS, AS_PLANNED = "more than planned", "less than planned", "as planned"
"""How what somebody has compares with the plan, in the order in which it is asked about."""
_WORDS = ("place", "may", "may_planned", "beside")
CHANGEABLE = (Level.LIST, Level.VIEW, Level.ADD_ONLY, Level.READ, Level.WRITE, Level.MANAGE)
"""The levels that a row may be changed to."""


@dataclass(frozen=True, slots=True)
class PackRow:
    """One question: a person, on a folder, with a level by something, since a day, and the plan's level.

    `token` tells the row from every other of every pack. `since`, `signed_in` and `last_used` are days as text, or
    empty; of `last_used` only what the records tell is known. `place`, `may`, `may_planned` and `beside` are the
    folder, what they may do, what the plan gives, and how that compares, in the words of the pack; packs of before
    have none.
    """

    token: str
    folder: Address
    person: str
    name: str
    level: Level
    by: str
    since: str
    signed_in: str
    planned: Level
    last_used: str = ""
    place: str = ""
    may: str = ""
    may_planned: str = ""
    beside: str = ""

    def to_facts(self) -> dict[str, Any]:
        """Return the row as JSON values."""
        return {
            "token": self.token,
            "folder": [self.folder.system, self.folder.path.hex()],
            "person": self.person,
            "name": self.name,
            "level": self.level.value,
            "by": self.by,
            "since": self.since,
            "signed_in": self.signed_in,
            "planned": self.planned.value,
            "last_used": self.last_used,
            **{key: getattr(self, key) for key in _WORDS if getattr(self, key)},
        }

    @classmethod
    def of_facts(cls, facts: Mapping[str, Any]) -> PackRow:
        """Return a row from JSON values; raises `KeyError`, `TypeError` or `ValueError`."""
        system, path = facts["folder"]
        return cls(
            token=facts["token"],
            folder=Address(system, bytes.fromhex(path)),
            person=facts["person"],
            name=facts["name"],
            level=Level(facts["level"]),
            by=facts["by"],
            since=facts["since"],
            signed_in=facts["signed_in"],
            planned=Level(facts["planned"]),
            last_used=facts.get("last_used", ""),
            **{key: facts.get(key, "") for key in _WORDS},
        )


@dataclass(frozen=True, slots=True)
class Pack:
    """The questions to one person, made from one count on a day."""

    id: str
    decider: str
    count: int
    made: date
    folders: tuple[Address, ...]
    rows: tuple[PackRow, ...]


@dataclass(frozen=True, slots=True)
class AnsweredRow:
    """One row as it came back: its token, its cells as text by heading, what was chosen, and a remark."""

    token: str
    cells: Mapping[str, str]
    choice: str
    level: str
    remark: str
    where: str


@dataclass(frozen=True, slots=True)
class Answer:
    """What came back: of which pack, who answered, on which day (as they wrote them), and the rows."""

    pack: str
    by: str
    day: str
    rows: Sequence[AnsweredRow]


@dataclass(frozen=True, slots=True)
class Decision:
    """What somebody decided on a day of a row; `level` is what is left to the person (None: what they have)."""

    row: PackRow
    choice: Choice
    level: Level | None
    by: str
    day: date
    remark: str = ""

    @property
    def left(self) -> Level:
        """What the person is to have."""
        match self.choice:
            case Choice.KEEP:
                return self.row.level
            case Choice.REMOVE:
                return Level.NONE
            case Choice.CHANGE:
                return self.level or Level.NONE


def faults_of(answer: Answer, pack: Pack, shown: Mapping[str, Mapping[str, str]], known: Iterable[str]) -> list[str]:
    """Return what is wrong with an answer, each in a line; nothing where it may be taken.

    `shown` are the cells of the pack's rows as they were written, by token; `known` are tokens of other packs.
    """
    found: list[str] = []
    if not answer.by:
        found.append("nobody's name is on it: write who decided")
    if _day(answer.day) is None:
        wrong = f"the date {answer.day[:40]!r} is none" if answer.day else "it has no date"
        found.append(f"{wrong}: write it as 2026-03-31")
    others, seen = set(known), set[str]()
    for row in answer.rows:
        if row.token not in shown:
            what = "is of another pack" if row.token in others else "was not in the pack"
            found.append(f"{row.where}: this row {what}")
            continue
        if row.token in seen:
            found.append(f"{row.where}: this row is there twice")
        seen.add(row.token)
        for head, cell in shown[row.token].items():
            if row.cells.get(head, "") != cell:
                was = row.cells.get(head, "")[:60]
                found.append(
                    f"{row.where}: {head} was {cell[:60]!r} and now is {was!r}: only the decision may be written"
                )
        found += _faults_of_choice(row)
    missing = len(shown.keys() - seen)
    if missing:
        found.append(f"{missing} of {len(shown)} rows are missing: leave a row without a decision rather than out")
    return found


def _faults_of_choice(row: AnsweredRow) -> list[str]:
    if row.choice and row.choice not in [one.value for one in Choice]:
        return [f"{row.where}: {row.choice[:40]!r} is no decision: keep, remove or change"]
    levels = [one.value for one in CHANGEABLE]
    if row.choice == Choice.CHANGE.value and row.level not in levels:
        wrong = f"{row.level[:40]!r} is no level" if row.level else "change to what?"
        return [f"{row.where}: {wrong} ({', '.join(levels)})"]
    if row.level and row.choice != Choice.CHANGE.value:
        return [f"{row.where}: a level without the decision to change"]
    return []


def _day(text: str) -> date | None:
    try:
        return date.fromisoformat(text)
    except ValueError:
        return None
