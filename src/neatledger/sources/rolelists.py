"""Lists of roles that a tree does not tell of every item: which list then counts."""

from __future__ import annotations

from collections.abc import Collection
from dataclasses import replace

from neatledger.core.lists.role import OPEN, RoleModel
from neatledger.core.lists.subjects import Subject
from neatledger.sources.rows import Path, RowTree

__all__ = ["NOT_TOLD", "groups_named", "resolve_lists"]

NOT_TOLD = b"^"
"""Stands for a list that was not told, until it is known what lies above."""

_GROUPS = (Subject.GROUP, Subject.EITHER)


def groups_named(tree: RowTree, accounts: Collection[str]) -> list[str]:
    """Return the groups that the lists of a tree name, as far as none of some accounts has their identifier."""
    bodies = {row.body for row in tree.rows.values()} - {NOT_TOLD}
    entries = [entry for body in bodies for entry in RoleModel().parse(body).entries]
    return sorted({one.ident for one in entries if one.subject in _GROUPS} - set(accounts))


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
