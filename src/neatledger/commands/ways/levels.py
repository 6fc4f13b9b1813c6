"""The levels by which a question may be narrowed."""

from __future__ import annotations

from neatledger.core.lists.rights import Level

__all__ = ["LEVELS"]

LEVELS = ("any", *(level.value for level in Level if level not in (Level.MIXED, Level.NONE, Level.UNKNOWN)))
"""A level, as it is typed; ``any``: any right at all."""
