"""The account of somebody who starts, made like those that are there."""

from __future__ import annotations

from collections import Counter
from collections.abc import Collection, Iterable, Sequence

from neatledger.core.survey.accounts import Account, Group

__all__ = ["new_account", "next_number"]

_FIRST_OF_PEOPLE, _LAST_OF_PEOPLE = 1000, 60_000
"""Numbers of people's accounts on POSIX systems; what lies outside belongs to the system itself."""


def next_number(used: Iterable[str]) -> str:
    """Return the number after the largest that a person, or what belongs to one, has or had."""
    numbers = [int(one) for one in used if one.isdecimal() and _FIRST_OF_PEOPLE <= int(one) < _LAST_OF_PEOPLE]
    return str(max(numbers, default=_FIRST_OF_PEOPLE) + 1)


def new_account(
    login: str,
    name: str,
    email: str,
    like: Sequence[Account],
    groups: Sequence[Group],
    used: Collection[str],
    *,
    is_numbered: bool = False,
) -> tuple[Account, Group | None]:
    """Return a new account, and the group of its own where the others of `like` have such.

    `used` are identifiers that nobody may get again. Where those of `like` are no numbers, the system gives one, and
    the login stands for it; but where accounts are known by numbers whatever stands there now (`is_numbered`).
    """
    people = [one for one in like if not one.ident.isdecimal() or int(one.ident) >= _FIRST_OF_PEOPLE]
    if not is_numbered and not (people and all(one.ident.isdecimal() for one in people)):
        primary = _most(one.primary for one in people)
        return Account(login, login, primary, name, email), None
    names = {group.ident: group.name for group in groups}
    ident = next_number(used)
    has_own = not people or sum(names.get(one.primary) == one.login for one in people) > len(people) / 2
    own = Group(login, ident) if has_own else None
    primary = ident if own is not None else _most(one.primary for one in people)
    homes = [one.home[: -len(one.login)] for one in people if one.home.endswith(f"/{one.login}")]
    home = f"{_most(homes)}{login}" if homes else ""
    return Account(login, ident, primary, name, email, home, _most(one.shell for one in people)), own


def _most(values: Iterable[str]) -> str:
    found = Counter(values)
    return max(found, key=lambda one: (found[one], one), default="")
