"""The form that every result takes before a face shows it: records with named cells, and what to say about them."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from datetime import UTC, date, datetime
from enum import Enum

from neatledger.core.tree.address import Address
from neatledger.counting import count_of

__all__ = [
    "SECTION",
    "Aside",
    "Cell",
    "Column",
    "MachineNote",
    "Moment",
    "Pointer",
    "Portion",
    "Report",
    "Row",
    "Show",
    "Size",
    "count_of",
    "day_cell",
    "hide",
    "moment_cell",
    "section",
    "shortened",
]


@dataclass(frozen=True, slots=True)
class Portion:
    """A part of a whole, in percent: to people never 100 % of what is not yet full, nor 0 % of something."""

    part: int
    whole: int

    @property
    def percent(self) -> int:
        """Whole percents, towards zero; 0 of nothing."""
        sign = -1 if self.part < 0 else 1
        return sign * (100 * abs(self.part) // self.whole) if self.whole else 0


Cell = str | int | bool | bytes | Address | None | tuple[str, ...] | Portion
"""A value: None is "not known"; an `Address` or bytes may hold what is not printable."""

Row = Mapping[str, Cell]
"""A record: the cells by the keys of the report's columns."""


SECTION = ""
"""The key of a row that is a line of its own between the others: the heading of those that follow."""


def section(text: str, command: str = "") -> Row:
    """Return a heading between rows, with the command that shows more of what follows."""
    return {SECTION: text, "command": command}


class Size(int):
    """An amount of storage in bytes: shown with its unit to people, as a whole number to machines."""

    is_binary: bool

    def __new__(cls, size_bytes: int, is_binary: bool = False) -> Size:
        """Make a size; `is_binary` shows it in powers of 1024."""
        made = super().__new__(cls, size_bytes)
        made.is_binary = is_binary
        return made


class Moment(str):
    """A moment as people read it, in the time of where they are; `utc` is how machines have it (RFC 3339)."""

    __slots__ = ("utc",)
    utc: str


def moment_cell(moment: datetime, form: str = "%Y-%m-%d %H:%M") -> Moment:
    """Return a moment as it is shown, and as it is written for machines: the same wherever one asks."""
    cell = Moment(moment.astimezone().strftime(form))
    cell.utc = moment.astimezone(UTC).isoformat(timespec="seconds")
    return cell


class Aside(str):
    """A note for people alone: what is not shown here, and which words show it."""

    __slots__ = ()


class MachineNote(str):
    """A note for machines alone: people are not shown what it speaks of."""

    __slots__ = ()


@dataclass(frozen=True, slots=True)
class Pointer:
    """What can be had next, and the words of the command that give it, quoted for a shell (without its name)."""

    what: str
    command: str


class Show(Enum):
    """Where a column appears."""

    ALWAYS = "always"
    PEOPLE = "people"  # in tables for people alone
    MACHINE = "machine"  # in CSV and JSON alone


@dataclass(frozen=True, slots=True)
class Column:
    """One column: its machine name and heading.

    Addresses in one that `cuts` are shortened where the table is too wide for the terminal, longer names go over
    lines, as texts in one that `wraps` do; `spare` ones are left out where there is no room, from the right on.
    """

    key: str
    head: str
    show: Show = Show.ALWAYS
    cuts: bool = False
    wraps: bool = False
    number: bool = False
    spare: bool = False


def shortened(text: str) -> str:
    """Return the first of what a text lists between semicolons, and how many more there are: for a narrow cell."""
    first, *rest = text.split("; ")
    return f"{first}; and {len(rest)} more" if rest else text


def hide(columns: Sequence[Column], *keys: str) -> list[Column]:
    """Return columns, some of which only machines are shown; those that only people were shown are left out."""
    return [
        replace(column, show=Show.MACHINE) if column.key in keys else column
        for column in columns
        if column.key not in keys or column.show is not Show.PEOPLE
    ]


@dataclass(slots=True)
class Report:
    """Records with what to say before and after them.

    `headline` is the answer in one line; `rows` are complete, and `folded`, where given, is how people see them:
    fewer, or several in one. `notes` follow the table; `empty` is said when there are no rows.
    """

    name: str
    headline: str
    columns: Sequence[Column]
    rows: Sequence[Row]
    notes: list[str] = field(default_factory=list)
    empty: str = "nothing to show"
    folded: Sequence[Row] | None = None
    is_assured: bool = False
    """Whether what it says is that all is well: whoever shows it says too what was not seen (`assurances`)."""
    is_bounded: bool = False
    """Whether something was not seen of what it rests on."""
    lead: Sequence[str] = ()
    """Lines between the headline and the table, for people alone: what to do first, and why."""
    pointers: Sequence[Pointer] = ()
    """What can be asked next, three at most: for people alone."""
    last: str | None = None
    """The last line for people: which count was asked, and what was not seen; None: whoever shows it says that."""
    most: int = 20
    """Rows that people are shown on a terminal, unless they ask for all."""
    more: Callable[[Sequence[Row]], str] | None = None
    """Says what the rows are that are left out; how many, where it is not given."""
    whole: str = "-a"
    """What is typed for all rows: the option alone, or the whole call."""

    @property
    def shown(self) -> Sequence[Row]:
        """The rows as people see them."""
        return self.rows if self.folded is None else self.folded


def day_cell(day: date | None) -> str:
    """Return a day as it is written; nothing where there is none."""
    return "" if day is None else day.isoformat()
