"""Lengths of time and short lists, in words."""

from __future__ import annotations

from collections.abc import Iterable

__all__ = ["from_places", "length", "some"]

_MINUTE, _HOUR, _DAY = 60, 3600, 86400


def length(seconds: int) -> str:
    """Return a length of time in words."""
    for size, one in ((_DAY, "day"), (_HOUR, "hour"), (_MINUTE, "minute")):
        if seconds >= 2 * size:
            return f"{seconds // size} {one}s"
    return f"{max(int(seconds), 1)} second{'s' if seconds > 1 else ''}"


def some(words: Iterable[str]) -> str:
    """Return the first three of some words, and how many more there are."""
    ordered = sorted(words)
    return ", ".join(ordered[:3]) + (f" and {len(ordered) - 3} more" if len(ordered) > 3 else "")


def from_places(places: Iterable[str]) -> str:
    """Return from where something came, to stand behind a sentence; empty where that is not known."""
    words = some(places)
    return f", from {words}" if words else ""
