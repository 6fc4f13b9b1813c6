"""Since when a person has what they have, on many folders at once."""

from __future__ import annotations

from collections.abc import Iterable
from datetime import date

import numpy as np

from neatledger.core.access.people_flags import PeopleFlags
from neatledger.core.tree.address import Address
from neatledger.questions.history import Since, counts_of
from neatledger.questions.office import Office

__all__ = ["ask_since"]


def ask_since(office: Office, person: str, addresses: Iterable[Address]) -> dict[Address, Since]:
    """Return for folders since when a person has there what they have now, without a break; by all ways together."""
    found: dict[Address, Since] = {}
    by_system: dict[str, list[Address]] = {}
    for address in addresses:
        by_system.setdefault(address.system, []).append(address)
    for system, some in by_system.items():
        open_: dict[Address, int] = {}
        day: date | None = None
        for count in reversed(list(counts_of(office, system))):
            systems = office.systems_of(office.readers_of(count), count.day)
            mine = [one for one in systems.holders[system] if one.person == person]
            here = dict.fromkeys(some, 0)
            if mine:
                everyone = systems.everyone(system, mine, is_narrow=True)
                rows = everyone.matrix.order.find_many([one.parts for one in some])
                places = np.array([-1 if (row := rows[one.parts]) is None else row for one in some], dtype=np.int64)
                here = dict(zip(some, PeopleFlags(everyone, [person]).flags(places)[:, 0].tolist(), strict=True))
            if day is None:
                open_ = here
            for address in [one for one, flags in open_.items() if here[one] != flags]:
                del open_[address]
                assert day is not None, "the newest count differs from itself in nothing"
                found[address] = Since(count.day, day)
            day = count.day
            if not open_:
                break
        found |= {address: Since(None, day) for address in open_ if day is not None}
    return found
