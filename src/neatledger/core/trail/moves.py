"""Folders that were moved or renamed: what a folder was called then, and what one of then is called now."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from typing import NamedTuple

from neatledger.core.tree.address import lies_within

__all__ = ["EarlierName", "Move", "Moves"]


class Move(NamedTuple):
    """A folder was moved or renamed at a moment (seconds since 1970, UTC)."""

    moment: int
    source: bytes
    dest: bytes


@dataclass(frozen=True, slots=True)
class EarlierName:
    """What a folder was called until a moment (seconds since 1970, UTC), and not any more from then on."""

    path: bytes
    until: int


class Moves:
    """The moves of one system."""

    def __init__(self, moves: Iterable[Move]) -> None:
        self._moves = sorted(moves)

    def __bool__(self) -> bool:
        return bool(self._moves)

    def moments_of(self, path: bytes) -> list[int]:
        """Return the moments between which what a path is called now may change; none: it never moved."""
        found: list[int] = []
        for one in self._moves:
            # What was moved here in the meantime may have been moved on: so every move after the first counts.
            if found or lies_within(path, one.source):
                found.append(one.moment)
        return found

    def now(self, path: bytes, moment: int) -> bytes:
        """Return what is called now what was called `path` at a moment."""
        for one in self._moves:
            if one.moment > moment and lies_within(path, one.source):
                path = one.dest + path[len(one.source) :]
        return path

    def earlier_names(self, path: bytes) -> Sequence[EarlierName]:
        """Return what a folder of now was called before, the latest first."""
        found: list[EarlierName] = []
        for one in reversed(self._moves):
            if lies_within(path, one.dest):
                path = one.source + path[len(one.dest) :]
                found.append(EarlierName(path, one.moment))
        return found
