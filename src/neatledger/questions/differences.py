"""Where plan and found differ: on every folder of the plan that was found, for everyone or one person."""

from __future__ import annotations

from collections.abc import Collection

from neatledger.core.access.differences import Difference, differences_at
from neatledger.errors import UnknownNameError
from neatledger.ledger.locations import locate
from neatledger.questions.office import Office

__all__ = ["ask"]


def ask(office: Office, people: Collection[str] | None = None) -> list[Difference]:
    """Return both sides of every folder of the plan and person, those that agree too."""
    found: list[Difference] = []
    for folder in office.plan.folders:
        system = folder.address.system
        try:
            location = locate(office.reader(system), folder.address)
        except UnknownNameError:
            continue
        asked = {
            name: office.systems.access(location, principals)
            for name, principals in office.people_on(system).items()
            if people is None or name in people
        }
        differences = differences_at(office.plan, folder.address, asked)
        found += [each for each in differences if people is None or each.person in people]
    return found
