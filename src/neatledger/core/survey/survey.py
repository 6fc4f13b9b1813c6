"""What a source hands back about one system: its accounts, groups, folders and files.

Folders are rows of a table in breadth-first order: row 0 is the root, the children of a folder are
neighbours, sorted by name as bytes. Files are not rows of their own: per folder they are added up by
list, owner and kind (a *class*), links and special files likewise (*others*). By name are kept: files whose
list or owner differs from that of most of their neighbours (*odd*), the largest (*large*), and names that
differ from another beside them in letter case only (*collisions*). Names of the same file system object are
kept by identity (*hard*). What every folder holds with all below it is there too, and the whole by
owner, kind and list (*totals*).
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any

import numpy as np

from neatledger.core.survey.accounts import Account, Group
from neatledger.core.survey.shared import Shared
from neatledger.core.tree.columns import NotSeen
from neatledger.core.tree.table import Table

__all__ = ["Facts", "Survey"]

Facts = dict[str, Any]


@dataclass(slots=True)
class Survey:
    """Everything that one source saw of one system, ready for the ledger."""

    system: str
    source: str
    model: str
    accounts: list[Account]
    groups: list[Group]
    folders: Table
    classes: Table
    odd: Table
    hard: Table
    others: Table
    large: Table
    totals: Mapping[str, Table]
    collisions: Table
    lists: list[bytes]
    idents: list[str]
    kinds: list[str]
    not_seen: list[NotSeen]
    facts: Facts = field(default_factory=dict)
    shared: Shared | None = None

    @property
    def files(self) -> int:
        """Return the number of regular files (names, not identities)."""
        return int(np.sum(self.classes["files"], dtype=np.int64))
