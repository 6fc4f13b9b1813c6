"""Why a person can, or cannot, reach a folder or file."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING

from neatledger.core.access.differences import Difference, differences_at, nearest_planned
from neatledger.core.access.tree_gates import Item
from neatledger.core.access.ways import Access
from neatledger.core.people.names import EntryNames
from neatledger.core.tree.address import Address
from neatledger.ledger.locations import Location, locate
from neatledger.questions.office import Office

if TYPE_CHECKING:
    from neatledger.questions.advice import Advice

__all__ = ["WhyAnswer", "ask", "difference_of"]


@dataclass(frozen=True, slots=True)
class WhyAnswer:
    """One person's access to one place, with its reasons."""

    location: Location
    access: Access
    names: EntryNames
    advice: tuple[Advice, ...] = ()

    @property
    def address(self) -> Address:
        """Where it is."""
        return self.location.address

    @property
    def chain(self) -> tuple[Item, ...]:
        """The folders from the root down, and the place itself."""
        return self.location.chain

    @property
    def note(self) -> str:
        """What a file's answer rests on."""
        return self.location.note


def ask(office: Office, name: str, address: Address | str) -> WhyAnswer | None:
    """Return one person's access, None where they have no account there; raises `UnknownNameError`."""
    address = office.address(address)
    principals = office.find_person(name).on(address.system)
    if not principals:
        return None
    location = locate(office.reader(address.system), address)
    access = office.systems.access(location, principals)
    advice: tuple[Advice, ...] = ()
    if not access.rights and access.is_known and office.systems.service(address.system) is None:
        from neatledger.questions.advice import advise

        advice = tuple(advise(office, location, one) for one in principals)
    return WhyAnswer(location, access, office.names(address.system), advice)


def difference_of(office: Office, found: WhyAnswer) -> Difference | None:
    """Return what the plan gives somebody on a place beside what was found; None where it does not speak of it."""
    where, person = found.address, found.access.person
    if nearest_planned(office.plan, where) is None:
        return None
    compared = differences_at(office.plan, where, {person: found.access})
    return next((one for one in compared if one.person == person), None)
