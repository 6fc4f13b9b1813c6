"""The ways in which an SMB server gives nothing: it says no, it does not answer, or somebody answers in its place."""

from __future__ import annotations

__all__ = ["ENDED", "Forged", "Lost", "Refused"]

ENDED = frozenset(
    (
        0xC00000C9,  # STATUS_NETWORK_NAME_DELETED
        0xC0000203,  # STATUS_USER_SESSION_DELETED
        0xC000035C,  # STATUS_NETWORK_SESSION_EXPIRED
    )
)
"""Statuses of a session that the server has forgotten, with its keys (MS-ERREF 2.3.1)."""


class Refused(Exception):
    """The server refuses one item; the rest can still be asked for."""


class Lost(Exception):
    """The server cannot be reached any more."""


class Forged(Lost):
    """What came is not the server's: it is not signed, or not encrypted, where all that it says must be."""
