"""All families of signs; a family is a file beside this one, and its row here."""

from __future__ import annotations

from neatledger.core.trail.signs import files, rights, sign_ins
from neatledger.core.trail.signs.contract import History, Sign

__all__ = ["find_signs"]

_FAMILIES = (sign_ins, files, rights)


def find_signs(history: History) -> list[Sign]:
    """Return what looks wrong on one system, in the order of time."""
    found = [sign for family in _FAMILIES for sign in family.find(history)]
    return sorted(found, key=lambda one: (one.first, one.kind.value, one.login))
