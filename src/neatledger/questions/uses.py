"""Who last used what: the trail of a system beside its last count."""

from __future__ import annotations

from datetime import datetime

from neatledger.core.access.matrix import Matrix
from neatledger.core.people.principals import numbers_of_logins
from neatledger.core.trail.table import TrailTable
from neatledger.core.trail.uses import Uses, uses_of
from neatledger.core.tree.address import parts_of
from neatledger.questions.office import Office

__all__ = ["load_uses", "uses_in"]


def load_uses(
    office: Office, matrix: Matrix, system: str, since: datetime | None = None, until: datetime | None = None
) -> Uses:
    """Return the last uses of a system's folders: accounts are the principals of a matrix, folders its rows.

    What was done under an account that is not there any more, or in a folder that is not, is left out.
    """
    return uses_in(office, matrix, office.ledger.trail.table(system, since, until))


def uses_in(office: Office, matrix: Matrix, table: TrailTable) -> Uses:
    """Return the same of records that were read already."""
    moves = office.ledger.trail.moves(table.system)

    def row_of(path: bytes) -> int:
        row = matrix.order.find_row(parts_of(path))
        return -1 if row is None else row

    return uses_of(table, moves, row_of, numbers_of_logins(matrix.principals))
