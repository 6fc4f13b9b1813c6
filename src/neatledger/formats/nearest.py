"""Words that are near to one that nobody knows: what to answer a slip of the hand with."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping

from neatledger.errors import UnknownNameError

__all__ = ["find_named", "meant_by", "nearest", "one_of", "or_else"]

_MOST, _LIKENESS = 3, 0.6
_SHORTEST = 3
"""Letters that a part must have at least: fewer are in too many names by chance."""


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


def meant_by(word: str, called: Mapping[str, Iterable[str]]) -> set[str]:
    """Return which of some things a word means, by the closest way in which it means any.

    `called` has each with all that it is called. Whole comes before any case, that before a word of a name, that
    before how a word begins, and that before a part of it.
    """
    if word in called:
        return {word}
    folded = word.casefold()
    is_long = len(folded) >= _SHORTEST
    ways: list[Callable[[str], bool]] = [
        lambda known: known == folded,
        lambda known: folded in known.replace("@", " ").split()[: None if "@" not in known else 1],
        lambda known: is_long and any(part.startswith(folded) for part in known.split()),
        lambda known: is_long and folded in known,
    ]
    known = {key: {name.casefold() for name in (key, *names) if name} for key, names in called.items()}
    for is_so in ways:
        found = {key for key, names in known.items() if any(map(is_so, names))}
        if found:
            return found
    return set()


def find_named(word: str, sort: str, called: Mapping[str, Iterable[str]], hint: str = "") -> str:
    """Return the one of some things of a sort that a word means; raises `UnknownNameError` with what is near."""
    found = meant_by(word, called)
    if len(found) == 1:
        return found.pop()
    if found:
        raise UnknownNameError(f"several {sort}s are called {word!r}", hint=f"say which: {', '.join(sorted(found))}")
    names = [name for key, more in called.items() for name in (key, *more) if name]
    every = f"there are: {', '.join(called)}" if called else "the plan has none"
    raise UnknownNameError(f"no {sort} is called {word!r}", hint=or_else(word, names, hint or every))
