"""What the words of a question mean: a person, a folder, or one of each."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from contextlib import suppress
from typing import TypeVar

from neatledger.core.tree.address import Address
from neatledger.errors import UnknownNameError, UsageError
from neatledger.ledger.locations import locate
from neatledger.questions.earlier_names import names_of
from neatledger.questions.office import FoundPerson, Office

__all__ = ["person_and_folder", "person_or_folder"]


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
