"""What the words of a question mean: a person, a folder, or one of each."""

from __future__ import annotations

from collections.abc import Sequence

from neatledger.core.tree.address import Address
from neatledger.errors import UnknownNameError, UsageError
from neatledger.questions.office import FoundPerson, Office

__all__ = ["person_and_folder"]


def person_and_folder(office: Office, names: Sequence[str]) -> tuple[FoundPerson | None, Address | None]:
    """Return the person and the folder that are meant; raises `UsageError` where there are two of one sort."""
    person: FoundPerson | None = None
    below: Address | None = None
    for name in names:
        try:
            found = office.find_person(name)
        except UnknownNameError as nobody:
            try:
                address = office.address(name)
            except (UnknownNameError, UsageError):
                if ":" in name or "/" in name:
                    raise
                raise nobody from None
            if below is not None:
                raise UsageError(f"two folders: {below} and {address}", hint="name one") from None
            below = address
        else:
            if person is not None:
                raise UsageError(f"two people: {person.id} and {found.id}", hint="name one")
            person = found
    return person, below
