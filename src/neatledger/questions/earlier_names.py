"""What a folder was called before, as far as the records tell."""

from __future__ import annotations

from datetime import UTC, datetime

from neatledger.core.tree.address import Address
from neatledger.questions.office import Office

__all__ = ["names_of"]


def names_of(office: Office, address: Address) -> dict[Address, datetime | None]:
    """Return a place, and what it was called before, each with until when (None: to this day)."""
    names: dict[Address, datetime | None] = {address: None}
    for one in office.ledger.trail.moves(address.system).earlier_names(address.path):
        names.setdefault(Address(address.system, one.path), datetime.fromtimestamp(one.until, UTC))
    return names
