"""What something holds, as one record: its files, their apparent bytes, and the bytes that are allocated for them."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

__all__ = ["FIGURES", "NOTHING", "Figures", "add_up"]

FIGURES = ("files", "bytes", "occupied")
"""The columns that hold figures in tables, in the order of the record's fields."""


@dataclass(frozen=True, slots=True)
class Figures:
    """Files, apparent bytes (st_size), occupied bytes (what is allocated); below zero for what is taken off."""

    files: int = 0
    bytes: int = 0
    occupied: int = 0

    @classmethod
    def of_row(cls, row: Iterable[int]) -> Figures:
        """Return the record of a row of figures, in the order of `FIGURES`."""
        return cls(*map(int, row))

    def __add__(self, other: Figures) -> Figures:
        return Figures(self.files + other.files, self.bytes + other.bytes, self.occupied + other.occupied)

    def __sub__(self, other: Figures) -> Figures:
        return Figures(self.files - other.files, self.bytes - other.bytes, self.occupied - other.occupied)

    def __bool__(self) -> bool:
        return bool(self.files or self.bytes or self.occupied)

    def measured(self, measure: str) -> int:
        """Return the figure that limits are put to: ``bytes`` or ``occupied``."""
        return self.bytes if measure == "bytes" else self.occupied


NOTHING = Figures()


def add_up(each: Iterable[Figures]) -> Figures:
    """Return the sum of figures."""
    return sum(each, NOTHING)
