"""What the words of a question mean: a person, a folder, or one of each."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from contextlib import suppress
from dataclasses import dataclass
from typing import TypeVar

from neatledger.core.tree.address import Address
from neatledger.errors import UnknownNameError, UsageError
from neatledger.formats.nearest import nearest, one_of
from neatledger.ledger.locations import locate
from neatledger.questions.addresses import nearest_by_name
from neatledger.questions.earlier_names import names_of
from neatledger.questions.office import FoundPerson, Office

__all__ = ["SORTS", "Subjects", "person_and_folder", "person_or_folder", "subjects_of"]


Found = TypeVar("Found")


def person_or_folder(office: Office, name: str, find: Callable[[str], Found]) -> Found | Address:
    """Return the person that `find` has by a name, else the folder of that name; raises `UnknownNameError`."""
    try:
        return find(name)
    except UnknownNameError as nobody:
        try:
            return _folder(office, name)
        except (UnknownNameError, UsageError):
            if ":" in name or "/" in name:
                raise
            raise nobody from None


def _folder(office: Office, name: str) -> Address:
    """Return a folder or file that is there, was at an older count, or that the records of what was done speak of."""
    try:
        return office.find_folder(name, or_before=True)
    except UnknownNameError:
        address = office.address(name)
        with suppress(UnknownNameError):
            return locate(office.reader(address.system), address).address
        if not office.ledger.trail.select(below=names_of(office, address)).rows:
            raise
        return address


def person_and_folder(office: Office, names: Sequence[str]) -> tuple[FoundPerson | None, Address | None]:
    """Return the person and the folder that are meant; raises `UsageError` where there are two of one sort."""
    person: FoundPerson | None = None
    below: Address | None = None
    for name in names:
        found = person_or_folder(office, name, office.find_person)
        if isinstance(found, Address):
            if below is not None:
                raise UsageError(f"two folders: {below} and {found}", hint="name one")
            below = found
        else:
            if person is not None:
                raise UsageError(f"two people: {person.id} and {found.id}", hint="name one")
            person = found
    return person, below


@dataclass(frozen=True, slots=True)
class Subjects:
    """What the words of a call narrow an answer to; what nobody named is None, or empty."""

    person: FoundPerson | None = None
    folder: Address | None = None
    system: str = ""


_MOST_NEAR = 3
SORTS = ("person", "folder", "system")
"""What a word of a call may name; ``person:ward`` says which where a name has two senses."""


def subjects_of(office: Office, words: Sequence[str], sorts: Sequence[str] = SORTS) -> Subjects:
    """Return what some words name, each one thing of another sort; raises `UsageError` or `UnknownNameError`."""
    found: dict[str, object] = {}
    for word in words:
        sort, value = _subject(office, word, sorts)
        if sort in found:
            raise UsageError(f"two of one sort: {word!r} is a {sort} too", hint=f"name one {sort}")
        found[sort] = value
    return Subjects(**found)  # type: ignore[arg-type]


def _subject(office: Office, word: str, sorts: Sequence[str]) -> tuple[str, object]:
    said, colon, rest = word.partition(":")
    if colon and said in sorts and rest:
        return said, _finders(office)[said](rest)
    if "folder" in sorts and "/" in word:
        return "folder", office.find_folder(word, or_before=True)
    senses = {sort: value for sort, value in _exact(office, word).items() if sort in sorts}
    if len(senses) > 1:
        ways = " or ".join(f"{sort}:{word}" for sort in senses)
        raise UsageError(f"{word!r} is a {' and a '.join(senses)}", hint=f"write {ways}")
    if senses:
        return next(iter(senses.items()))
    for sort in ("person", "folder"):
        if sort in sorts:
            try:
                return sort, _finders(office)[sort](word)
            except (UnknownNameError, UsageError) as error:
                if "several" in str(error):
                    raise
    known = [*office.plan.systems, *office.plan.people]
    folders = nearest_by_name(office.readers, word) if "folder" in sorts and office.has_count else []
    near = list(dict.fromkeys([*nearest(word, known), *folders]))[:_MOST_NEAR]
    raise UnknownNameError(
        f"no {_or([sort for sort in SORTS if sort in sorts])} is called {word!r}",
        hint=f"did you mean {' or '.join(near)}?" if near else "people and folders list what there is",
    )


def _or(words: Sequence[str]) -> str:
    return words[0] if len(words) == 1 else f"{', '.join(words[:-1])} or {words[-1]}"


def _exact(office: Office, word: str) -> dict[str, object]:
    """Return what is called just so, in any case, by what it is."""
    found: dict[str, object] = {}
    with suppress(UnknownNameError):
        person = office.find_person(word)
        logins = {one.account.login.casefold() for some in person.principals.values() for one in some}
        if word.casefold() in logins | {person.id.casefold()}:
            found["person"] = person
    system = one_of(word.rstrip(":"), office.plan.systems)
    if system:
        found["system"] = system
    return found


def _finders(office: Office) -> dict[str, Callable[[str], object]]:
    return {
        "person": office.find_person,
        "folder": lambda word: office.find_folder(word, or_before=True),
        "system": office.find_system,
    }
