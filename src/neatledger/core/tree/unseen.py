"""Whether a folder that a count does not have may be there all the same: nobody looked where it would lie."""

from __future__ import annotations

from collections.abc import Iterable

from neatledger.core.tree.address import Address
from neatledger.core.tree.columns import NotSeen, SeenState

__all__ = ["NOT_LISTED", "may_be_unseen"]

NOT_LISTED = (SeenState.NOT_OPENED, SeenState.OTHER_FILE_SYSTEM)
"""How a folder was seen of which nobody knows what is in it."""


def may_be_unseen(address: Address, above: int, not_seen: Iterable[NotSeen]) -> bool:
    """Tell whether a folder that was not found may be there.

    `above` is how the nearest folder above it was seen (a `SeenState`), `not_seen` what was not, of its system.
    """
    return above in NOT_LISTED or any(one.path == address.path for one in not_seen if not one.source)
