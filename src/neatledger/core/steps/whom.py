"""Whom an entry of a list is to name: an account, a group, everybody, or the owner of the item."""

from __future__ import annotations

from dataclasses import dataclass
from enum import Enum

__all__ = ["Sort", "Whom"]


class Sort(Enum):
    """What sort of holder an entry names."""

    USER = "user"
    GROUP = "group"
    EVERYONE = "everyone"
    OWNER = "owner"


@dataclass(frozen=True, slots=True)
class Whom:
    """A holder by the system's own identifier, with the name to call it by."""

    sort: Sort
    ident: str = ""
    name: str = ""
