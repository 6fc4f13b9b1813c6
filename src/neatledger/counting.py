"""Numbers with what they count."""

from __future__ import annotations

__all__ = ["count_of"]

_PLURALS = {"person": "people", "is": "are", "entry": "entries"}


def count_of(number: int, word: str) -> str:
    """Return a number with its noun: ``1 file``, ``2,000 files``."""
    return f"{number:,} {word if number == 1 else _PLURALS.get(word, word + 's')}"
