"""Of how many files of a folder somebody gained or lost something between two counts, as far as numbers tell."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

__all__ = ["FilesChanged", "moved_files"]


@dataclass(frozen=True, slots=True)
class FilesChanged:
    """How many files may be read, changed and removed that could not be before, or the other way round."""

    read: int = 0
    change: int = 0
    delete: int = 0

    def __bool__(self) -> bool:
        return bool(self.read or self.change or self.delete)

    @property
    def most(self) -> int:
        """The largest of the three: of how many files it speaks at least."""
        return max(self.read, self.change, self.delete)


def moved_files(had: Any, has: Any, lacked: Any, lacks: Any) -> tuple[Any, Any]:
    """Return how many files somebody must have gained and lost of one right; numbers, or arrays of them.

    Arguments: with how many files they could do a thing, and can; with how many they could not, and cannot. Files
    that came or went explain a change of one of the two; what is fewer here and more there, they do not.
    """
    gained = _smaller(_above_zero(has - had), _above_zero(lacked - lacks))
    lost = _smaller(_above_zero(had - has), _above_zero(lacks - lacked))
    # Where there were files, and none that they could do it with, a new one is the first.
    is_first = (had == 0) & (lacked > 0)
    return is_first * has + (1 - is_first) * gained, lost


def _above_zero(number: Any) -> Any:
    """Return a number, or zero where it is less; written so that it holds for arrays too."""
    return (number + abs(number)) // 2


def _smaller(one: Any, other: Any) -> Any:
    return (one + other - abs(one - other)) // 2
