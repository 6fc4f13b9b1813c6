"""What was written in a folder and below it since a moment, by the times of the files as the count has them."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from datetime import datetime

import numpy as np

from neatledger.core.tree.address import Address
from neatledger.core.tree.columns import SeenState
from neatledger.core.tree.order import TreeOrder
from neatledger.questions.office import Office

__all__ = ["Written", "WrittenSince"]


@dataclass(frozen=True, slots=True)
class Written:
    """Files written since a moment: at least so many, at most so many with so many bytes.

    Files are counted together by folder, owner, kind and list, with the newest time of each such lot; one of several
    names is counted with each. What was deleted since is not seen in it.
    """

    least: int
    most: int
    bytes: int


class WrittenSince:
    """Asks the count; keeps for each system what many folders need."""

    def __init__(self, office: Office) -> None:
        self._office = office
        self._taken: Mapping[str, datetime] = {one.system: one.taken_at for one in office.count.surveys}
        self._orders: dict[str, TreeOrder] = {}

    def at(self, address: Address, moment: datetime) -> Written | None:
        """Return what was written; None where it cannot be known.

        That is where the count is older than the moment, where the folder or one below it was not seen, and where
        the system did not tell when files were changed.
        """
        system = address.system
        if self._taken[system] <= moment:
            return None
        reader = self._office.readers[system]
        if system not in self._orders:
            self._orders[system] = TreeOrder(reader.table("folders"))
        order = self._orders[system]
        row = order.find_row(address.parts)
        if row is None:
            return None
        state = reader.table("folders")["state"][order.below(row)]
        if np.isin(state, (SeenState.NOT_OPENED, SeenState.OTHER_FILE_SYSTEM)).any():
            return None
        classes = reader.table("classes")
        here = order.is_below(classes["folder"], row)
        if not classes["changed"][here].all():
            return None
        # Whole seconds are kept: what was written in the second of the moment itself may have come after it, or not.
        lots = here & (classes["changed"] >= int(moment.timestamp()))
        return Written(
            int((lots & (classes["changed"] > int(moment.timestamp()))).sum()),
            int(classes["files"][lots].sum()),
            int(classes["bytes"][lots].sum()),
        )
