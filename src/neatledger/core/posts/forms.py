"""Logins, addresses and homes made of somebody's name in the forms that an office writes, and those that are free.

A form is text with ``{first}``, ``{last}``, ``{first initial}`` and ``{last initial}``; of a name the first and the
last word count, without accents and in small letters. What a login may be made of is left to the form: the letters of
the name are brought to those that every system takes (POSIX.1-2017 section 3.437, portable user names).
"""

from __future__ import annotations

import re
import unicodedata
from collections.abc import Collection, Iterator
from dataclasses import dataclass

__all__ = ["FIELDS", "Choice", "choose_login", "faults_of_form", "fill_form", "guess_form", "plain_letters"]

FIELDS = ("first", "last", "first initial", "last initial")
_FIELD = re.compile(r"\{([^{}]*)\}")
_APART = str.maketrans({"ß": "ss", "æ": "ae", "œ": "oe", "ø": "o", "ł": "l", "đ": "d", "ð": "d", "þ": "th"})
_MOST_NUMBER = 1000


def faults_of_form(form: str, *, more: Collection[str] = ()) -> list[str]:
    """Return what stands in braces in a form and is no field of one."""
    known = {*FIELDS, *more}
    found = [name for name in _FIELD.findall(form) if name not in known]
    return found + (["{ or } alone"] if set(_FIELD.sub("", form)) & set("{}") else [])


def plain_letters(text: str) -> str:
    """Return the letters and digits of a text as a login can have them: small, without accents."""
    plain = unicodedata.normalize("NFKD", text.casefold().translate(_APART))
    return "".join(one for one in plain if one.isascii() and one.isalnum())


def fill_form(form: str, name: str, login: str = "", *, initials: int = 1) -> str:
    """Return a form filled with a name; `initials` is how many letters an initial of the first name has.

    Empty where the name has none of the letters that a login can have.
    """
    words = [plain_letters(word) for word in name.split()]
    words = [word for word in words if word]
    if not words:
        return ""
    first, last = words[0], words[-1]
    fields = {
        "first": first,
        "last": last,
        "first initial": first[:initials],
        "last initial": last[:1],
        "login": login,
    }
    return _FIELD.sub(lambda match: fields.get(match[1], match[0]), form)


@dataclass(frozen=True, slots=True)
class Choice:
    """A login that is free, whom the first choice belongs or belonged to, and logins that look much like it."""

    login: str
    first_choice: str
    taken_by: str = ""
    near: tuple[str, ...] = ()

    @property
    def is_first(self) -> bool:
        """Tell whether it is what the form makes of the name."""
        return self.login == self.first_choice


def choose_login(form: str, name: str, taken: dict[str, str]) -> Choice | None:
    """Return the first login of a form that nobody has or had; `taken` says by login whose each is or was.

    Where the form's own is taken, more letters of the first name are tried, then numbers. None where the name has no
    letters that a login can have.
    """
    known = {login.casefold(): whose for login, whose in taken.items()}
    first = fill_form(form, name)
    for login in _tried(form, name):
        if login and login.casefold() not in known:
            near = tuple(sorted(one for one in taken if _is_near(one.casefold(), login)))
            return Choice(login, first, known.get(first.casefold(), ""), near)
    return None


_USUAL = (
    *(
        "{first initial}{last}",
        "{first}.{last}",
        "{last}",
        "{first}",
        "{last}{first initial}",
        "{first}{last initial}",
    ),
    *(
        "{first}{last}",
        "{last}.{first}",
        "{first initial}.{last}",
        "{first}-{last}",
        "{first}_{last}",
        "{last}{first}",
    ),
)


def guess_form(login: str, name: str) -> str:
    """Return the form by which a login was made of a name; where none fits, that which most offices write."""
    return next((form for form in _USUAL if fill_form(form, name) == login.casefold()), _USUAL[0])


def _tried(form: str, name: str) -> Iterator[str]:
    made = fill_form(form, name)
    yield made
    if "{first initial}" in form:
        longest = max((len(plain_letters(word)) for word in name.split()[:1]), default=1)
        yield from (fill_form(form, name, initials=letters) for letters in range(2, longest + 1))
    if made:
        yield from (f"{made}{number}" for number in range(2, _MOST_NUMBER))


def _is_near(one: str, other: str) -> bool:
    """Tell whether two logins differ by one letter: set, left out, put in, or two changed about."""
    if one == other or abs(len(one) - len(other)) > 1 or min(len(one), len(other)) < 3:
        return False
    if len(one) == len(other):
        apart = [place for place, (a, b) in enumerate(zip(one, other, strict=True)) if a != b]
        is_swapped = len(apart) == 2 and apart[1] == apart[0] + 1 and one[apart[0]] == other[apart[1]]
        return len(apart) == 1 or (is_swapped and one[apart[1]] == other[apart[0]])
    short, long = sorted((one, other), key=len)
    return any(long[:place] + long[place + 1 :] == short for place in range(len(long)))
