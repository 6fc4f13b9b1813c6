"""Everything: people, folders and ways, system by system, as tables that are worked out block by block."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from neatledger.core.access.everyone import Everyone, RowBlock, RowFilter
from neatledger.core.people.principals import Principal
from neatledger.core.tree.address import Address
from neatledger.core.tree.table import Table
from neatledger.ledger.locations import unknown_folder
from neatledger.questions.office import Office

__all__ = ["AccessTable", "ask"]


@dataclass(frozen=True)
class AccessTable:
    """One system's table of access: of all its folders, or of the `chosen` ones."""

    system: str
    everyone: Everyone
    chosen: NDArray[np.int64] | None

    @property
    def folders(self) -> Table:
        """The table of folders that rows speak of."""
        return self.everyone.matrix.folders

    @property
    def folder_count(self) -> int:
        """How many folders are looked at."""
        return self.folders.rows if self.chosen is None else len(self.chosen)

    def blocks(self, which: RowFilter) -> Iterator[RowBlock]:
        """Yield the wanted rows."""
        return self.everyone.blocks(which, self.chosen)


def ask(
    office: Office, people: Sequence[str] | None = None, below: Address | str | None = None
) -> Iterator[AccessTable]:
    """Yield the table of each system, of everybody or of some people, and of all folders or those below one.

    Raises `UnknownNameError` for people and folders that are not there.
    """
    below = office.below(below)
    chosen = None if not people else [office.find_person(name) for name in people]
    for system in office.readers:
        if below is not None and below.system != system:
            continue
        principals: list[Principal] = []
        if chosen is None:
            principals = office.systems.holders[system]
        else:
            principals = [principal for person in chosen for principal in person.on(system)]
        if principals:
            everyone = office.systems.everyone(system, principals)
            yield AccessTable(system, everyone, _chosen(office, everyone, below))


def _chosen(office: Office, everyone: Everyone, below: Address | None) -> NDArray[np.int64] | None:
    if below is None:
        return None
    row = office.readers[below.system].find_row(below.path)
    if row is None:
        raise unknown_folder(office.readers[below.system], below, "folder")
    return everyone.rows_below(row)
