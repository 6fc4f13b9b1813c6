"""Whom a word of a call means: an id, login, name or e-mail address, in any case; or a part that one person has."""

from __future__ import annotations

from collections.abc import Iterable

from neatledger.core.people.principals import Principal
from neatledger.core.plan.plan import Person
from neatledger.formats.nearest import meant_by

__all__ = ["people_called"]


def people_called(word: str, principals: Iterable[Principal], people: Iterable[Person]) -> set[str]:
    """Return who is called so, by the closest way in which anybody is: whole, by a word of a name, by a part."""
    called: dict[str, set[str]] = {}
    for person in people:
        called.setdefault(person.id, set()).update((person.id, person.name, person.email))
    for one in principals:
        login = one.account.login
        words = (one.person, login, f"{one.system}:{login}", one.name, one.account.email)
        called.setdefault(one.person, set()).update(words)
    return meant_by(word, called)
