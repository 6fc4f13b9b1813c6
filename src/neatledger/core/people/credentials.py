"""A user's name and password, on their way to a system; never printed."""

from __future__ import annotations

from dataclasses import dataclass, field

__all__ = ["Credentials"]


@dataclass(frozen=True, slots=True)
class Credentials:
    """Who signs in, and with what; the password is left out of every text form."""

    user: str
    password: str = field(repr=False)
