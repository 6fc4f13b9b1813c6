"""The form that every result takes before a face shows it."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from enum import Enum

from neatledger.core.tree.address import Address

__all__ = ["Cell", "Column", "Report", "Show", "Size", "count_of"]

Cell = str | int | bool | bytes | Address | None | tuple[str, ...]
"""A value: None is "not known"; an `Address` or bytes may hold what is not printable."""


class Size(int):
    """An amount of storage in bytes: shown with its unit to people, as a whole number to machines."""

    is_binary: bool

    def __new__(cls, size_bytes: int, is_binary: bool = False) -> Size:
        """Make a size; `is_binary` shows it in powers of 1024."""
        made = super().__new__(cls, size_bytes)
        made.is_binary = is_binary
        return made


class Show(Enum):
    """Where a column appears."""

    ALWAYS = "always"
    PEOPLE = "people"  # in tables for people alone
    MACHINE = "machine"  # in CSV and JSON alone


@dataclass(frozen=True, slots=True)
class Column:
    """One column: its machine name and heading.

    Long values may be cut in the middle, or go over lines; a spare column is left out where there is no room.
    """

    key: str
    head: str
    show: Show = Show.ALWAYS
    cuts: bool = False
    wraps: bool = False
    number: bool = False
    spare: bool = False


@dataclass(slots=True)
class Report:
    """A table with what to say before and after it.

    `headline` is the answer in one line; `notes` follow the table; `empty` is said when there are no rows.
    """

    name: str
    headline: str
    columns: Sequence[Column]
    rows: list[Sequence[Cell]]
    notes: list[str] = field(default_factory=list)
    empty: str = "nothing to show"


_PLURALS = {"person": "people", "is": "are"}


def count_of(number: int, word: str) -> str:
    """Return a number with its noun: ``1 file``, ``2,000 files``."""
    return f"{number:,} {word if number == 1 else _PLURALS.get(word, word + 's')}"
