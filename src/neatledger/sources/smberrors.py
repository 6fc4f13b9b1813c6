"""The two ways in which an SMB server gives nothing: it says no, or it does not answer."""

from __future__ import annotations

__all__ = ["Lost", "Refused"]


class Refused(Exception):
    """The server refuses one item; the rest can still be asked for."""


class Lost(Exception):
    """The server cannot be reached any more."""
