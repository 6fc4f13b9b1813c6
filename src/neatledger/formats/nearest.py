"""Words that are near to one that nobody knows: what to answer a slip of the hand with."""

from __future__ import annotations

from collections.abc import Iterable

__all__ = ["nearest", "one_of", "or_else"]

_MOST, _LIKENESS = 3, 0.6


def nearest(word: str, known: Iterable[str]) -> list[str]:
    """Return the few known words that are most like one, whatever their case."""
    # Loaded only where a word is not known: every call of the command passes here.
    from difflib import get_close_matches

    by_folded: dict[str, str] = {}
    for one in known:
        by_folded.setdefault(one.casefold(), one)
    return [by_folded[one] for one in get_close_matches(word.casefold(), by_folded, _MOST, _LIKENESS)]


def one_of(word: str, known: Iterable[str]) -> str | None:
    """Return the known word that is meant: the very one, or the only one that differs in case alone."""
    words = list(known)
    if word in words:
        return word
    found = [one for one in words if one.casefold() == word.casefold()]
    return found[0] if len(found) == 1 else None


def or_else(word: str, known: Iterable[str], hint: str) -> str:
    """Return the hint for a word that nobody knows: the nearest ones, else what lists them all."""
    found = nearest(word, known)
    return f"did you mean {' or '.join(found)}?" if found else hint
