"""Lists of roles that a tree does not tell of every item: which list then counts."""

from __future__ import annotations

from collections.abc import Collection
from dataclasses import replace

from neatledger.core.lists.role import OPEN
from neatledger.sources.rows import Path, RowTree

__all__ = ["NOT_TOLD", "resolve_lists"]

NOT_TOLD = b"^"
"""Stands for a list that was not told, until it is known what lies above."""


def resolve_lists(tree: RowTree, teams: Collection[Path], root: bytes) -> None:
    """Give items without a list of their own the one above them, from a team folder on none; `root` is the root's."""
    bodies: dict[Path, bytes] = {}
    for path in sorted(tree.rows, key=len):
        row = tree.rows[path]
        body = row.body
        if body == NOT_TOLD:
            body = OPEN if path in teams else bodies.get(path[:-1], root) if path else root
            tree.rows[path] = replace(row, body=body)
        if row.kind == "folder":
            bodies[path] = body
