"""One thing that somebody did, as a system wrote it down, in the same words whatever system that was."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime
from enum import Enum

__all__ = ["Did", "Position", "Record"]


class Did(Enum):
    """What was done, by the word that people read."""

    SIGN_IN = "signed in"
    OPEN = "opened"
    CHANGE = "changed"
    MAKE = "made"
    RENAME = "renamed"
    DELETE = "deleted"
    RIGHTS = "changed rights of"
    ACCOUNT = "changed an account"


@dataclass(frozen=True, slots=True)
class Record:
    """One thing done: when (UTC), by which login, on what, with success or not.

    `path` is below the system's root, empty where it is of no folder or file; `to` is where something was moved, and
    `is_folder` says that it is known to be a folder. `address` and `device` say from where; `detail` what else was
    told: why it was refused, or what of an account was changed.
    """

    moment: datetime
    who: str
    did: Did
    path: bytes = b""
    to: bytes = b""
    is_done: bool = True
    is_folder: bool = False
    address: str = ""
    device: str = ""
    detail: str = ""


@dataclass(frozen=True, slots=True)
class Position:
    """How far a log was read: known again by the SHA-256 of its first bytes, whatever it is called by then."""

    head: bytes = b""
    head_length: int = 0
    offset: int = 0
    lines: int = 0
