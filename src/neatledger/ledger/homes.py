"""The home folders that a count saw."""

from __future__ import annotations

from collections.abc import Iterator

from neatledger.core.people.homes import HomeFolder
from neatledger.core.plan.plan import PlanSystem
from neatledger.core.tree.address import Address
from neatledger.ledger.reader import SurveyReader

__all__ = ["find_homes"]


def find_homes(reader: SurveyReader, system: PlanSystem) -> Iterator[HomeFolder]:
    """Yield the folders right below those that the plan names as holding homes."""
    for path in system.homes:
        folders, missing = reader.find_path(path)
        if missing is None:
            for row in folders[-1].children:
                home = reader.folder(row)
                yield HomeFolder(Address(reader.system, path.rstrip(b"/") + b"/" + home.name), home.owner)
