"""Whom a word of a call means: an id, login, name or e-mail address, in any case; or a part that one person has."""

from __future__ import annotations

from collections.abc import Callable, Iterable

from neatledger.core.people.principals import Principal
from neatledger.core.plan.plan import Person

__all__ = ["people_called"]

_SHORTEST = 3
"""Letters that a part must have at least: fewer are in too many names by chance."""


def people_called(word: str, principals: Iterable[Principal], people: Iterable[Person]) -> set[str]:
    """Return who is called so, by the closest way in which anybody is: whole, by a word of a name, by a part."""
    called: dict[str, set[str]] = {}
    for person in people:
        called.setdefault(person.id, set()).update((person.id, person.name, person.email))
    for one in principals:
        login = one.account.login
        words = (one.person, login, f"{one.system}:{login}", one.name, one.account.email)
        called.setdefault(one.person, set()).update(words)
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
    known = {ident: {one.casefold() for one in words if one} for ident, words in called.items()}
    for is_so in ways:
        found = {ident for ident, words in known.items() if any(map(is_so, words))}
        if found:
            return found
    return set()
