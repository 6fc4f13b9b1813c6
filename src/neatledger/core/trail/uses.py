"""The last use: when which account last read, changed or managed something in which folder."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass
from enum import IntEnum

import numpy as np
from numpy.typing import NDArray

from neatledger.core.trail.moves import Moves
from neatledger.core.trail.records import Did
from neatledger.core.trail.table import DIDS, TrailTable
from neatledger.core.tree.table import spread_runs

__all__ = ["Use", "Uses", "uses_of"]

Ints = NDArray[np.int64]


class Use(IntEnum):
    """What somebody used a right for."""

    READ = 0
    CHANGE = 1
    MANAGE = 2


_USE_OF = {
    Did.OPEN: Use.READ, Did.CHANGE: Use.CHANGE, Did.MAKE: Use.CHANGE, Did.RENAME: Use.CHANGE,
    Did.DELETE: Use.CHANGE, Did.RIGHTS: Use.MANAGE, Did.SHARE: Use.MANAGE,
}  # fmt: skip
_USES = np.array([_USE_OF.get(did, -1) for did in DIDS], dtype=np.int64)


@dataclass(frozen=True, slots=True)
class Uses:
    """Accounts on folders, a row for each use: arrays of equal length, in the order of accounts.

    `account` and `folder` are the numbers that the caller gave them, `last` the last moment (seconds since 1970, UTC)
    and `number` how often.
    """

    account: Ints
    folder: Ints
    use: Ints
    last: Ints
    number: Ints

    def __len__(self) -> int:
        return len(self.last)

    def of(self, wanted: NDArray[np.bool_] | Ints) -> Uses:
        """Return some of the rows."""
        return Uses(*(one[wanted] for one in (self.account, self.folder, self.use, self.last, self.number)))

    def of_accounts(self, accounts: Iterable[int]) -> Uses:
        """Return the rows of some accounts."""
        some = np.array(sorted(accounts), dtype=np.int64)
        lows, highs = (np.searchsorted(self.account, some, side) for side in ("left", "right"))
        _, places = spread_runs(lows, highs - lows)
        return self.of(places)


def uses_of(
    table: TrailTable, moves: Moves, folder_of: Callable[[bytes], int], account_of: Mapping[str, int]
) -> Uses:
    """Return the last uses of folders by accounts; what was refused, and what is of no folder, is no use.

    Folders are followed where they were moved. `folder_of` gives the number of a path of now (below 0: it is not
    there), `account_of` those of logins in small letters; what has none is left out.
    """
    # The last stands for records that do not say who it was.
    accounts = np.array([*(account_of.get(one.casefold(), -1) for one in table.logins), -1], dtype=np.int64)
    account = accounts[table.who]
    use = _USES[table.did]
    wanted = table.is_done & (use >= 0) & (table.folders >= 0) & (account >= 0)
    folder = _present_folders(table, wanted, moves, folder_of)
    wanted &= folder >= 0
    columns = (account[wanted], folder[wanted], use[wanted])
    return _last_of_each(*columns, table.moments[wanted], table.numbers[wanted])


def _present_folders(
    table: TrailTable, wanted: NDArray[np.bool_], moves: Moves, folder_of: Callable[[bytes], int]
) -> Ints:
    """Return each record's folder by the number that it has now, −1 where it is not there any more."""
    present = np.full(len(table.paths) + 1, -1, np.int64)  # the last stands for records of no folder
    moved: list[tuple[int, list[int]]] = []
    for place in np.flatnonzero(np.bincount(table.folders[wanted], minlength=1)).tolist():
        moments = moves.moments_of(table.paths[place]) if moves else []
        if moments:
            moved.append((place, moments))
        else:
            present[place] = folder_of(table.paths[place])
    found: Ints = present[table.folders]
    for place, moments in moved:
        rows = np.flatnonzero(wanted & (table.folders == place))
        # Between two moves a path is the same folder.
        spans = np.searchsorted(np.array(moments), table.moments[rows], side="left")
        for span in np.unique(spans).tolist():
            some = rows[spans == span]
            found[some] = folder_of(moves.now(table.paths[place], int(table.moments[some[0]])))
    return found


def _last_of_each(account: Ints, folder: Ints, use: Ints, last: Ints, number: Ints) -> Uses:
    if not len(last):
        return Uses(account, folder, use, last, number)
    key = (account * (int(folder.max()) + 1) + folder) * len(Use) + use
    # Records come in the order of time: of those of one key the last stays the last.
    order = np.argsort(key, kind="stable")
    key = key[order]
    is_end = np.append(key[1:] != key[:-1], True)
    totals = np.cumsum(number[order])[is_end]
    numbers = np.diff(totals, prepend=0)
    at = order[is_end]
    return Uses(account[at], folder[at], use[at], last[at], numbers)
