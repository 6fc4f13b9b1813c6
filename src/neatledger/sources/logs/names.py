"""What a directory's logs have in common: names of who did something, and what a change is of."""

from __future__ import annotations

import re
from collections.abc import Iterable

from neatledger.core.trail.records import Did

__all__ = ["first_name", "is_of_log", "members_changed"]

_MEMBERS = frozenset({"member", "uniquemember", "memberuid"})
_BOOKKEEPING = frozenset({"entrycsn", "modifiersname", "modifytimestamp"})
_LOGS = re.compile(r"(^|,)\s*olcOverlay=\{?\d*\}?(auditlog|accesslog)\b", re.IGNORECASE)


def first_name(dn: str) -> str:
    """Return who it was by the first part of their distinguished name."""
    first = re.split(r"(?<!\\),", dn.strip(), maxsplit=1)[0]
    return first.partition("=")[2] or dn


def members_changed(names: Iterable[str]) -> tuple[Did, str]:
    """Return what a change of some attributes is, and in words which they were; never their values."""
    changed = [one for one in names if one and one not in _BOOKKEEPING]
    return Did.RIGHTS if set(changed) & _MEMBERS else Did.ACCOUNT, f"changed {', '.join(changed)}"


def is_of_log(dn: str) -> bool:
    """Tell whether an entry says what the directory writes down."""
    return _LOGS.search(dn) is not None
