"""A whole ledger into another: out of a file into a database that several share, or back."""

from __future__ import annotations

from collections.abc import Callable
from contextlib import closing
from pathlib import Path

from neatledger.errors import LedgerError
from neatledger.ledger.moving import move_ledger
from neatledger.ledger.opening import open_ledger
from neatledger.ledger.store import Ledger

__all__ = ["move"]


def move(ledger: Ledger, target: str, progress: Callable[[int], object] = lambda _: None) -> int:
    """Write all of a ledger into another, a file or the address of a database, and return how many links it has.

    Raises `LedgerError` where that is not empty, or cannot be made.
    """
    place: Path | str = target if "://" in target else Path(target)
    if isinstance(place, Path) and place.exists():
        raise LedgerError("there is a file already", target, "move into one that is not there yet")
    with closing(open_ledger(place, create=True)) as other:
        return move_ledger(ledger, other, progress)
