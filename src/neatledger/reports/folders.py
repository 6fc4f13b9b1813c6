"""Folders with their owners and lists, and one folder's list in full."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from neatledger.core.tree.address import Address
from neatledger.core.tree.columns import SeenState
from neatledger.reports.report import Cell, Column, Report, count_of

__all__ = ["FolderRow", "folder_report", "folders_report"]

_STATES = {
    SeenState.WHOLE: "",
    SeenState.NOT_OPENED: "contents not seen",
    SeenState.OTHER_FILE_SYSTEM: "another file system",
    SeenState.LIST_UNKNOWN: "list not seen",
}


@dataclass(frozen=True, slots=True)
class FolderRow:
    """One folder as the list of folders shows it; `odds` counts files with a list unlike their neighbours'."""

    address: Address
    owner: str
    entries: tuple[str, ...]
    children: int
    files: int
    odds: int
    state: SeenState


_COLUMNS = (
    Column("folder", "FOLDER", cuts=True),
    Column("owner", "OWNER", cuts=True),
    Column("list", "LIST", wraps=True),
    Column("folders", "FOLDERS", number=True),
    Column("files", "FILES", number=True),
    Column("odd_files", "ODD FILES", number=True),
    Column("seen", "NOT SEEN"),
)


def _row(row: FolderRow) -> tuple[Cell, ...]:
    return row.address, row.owner, row.entries, row.children, row.files, row.odds, _STATES[row.state]


def folders_report(rows: Sequence[FolderRow], depth: int) -> Report:
    """List folders down to a depth."""
    notes = (
        ["Odd files have a list or an owner unlike most of their neighbours."] if any(r.odds for r in rows) else []
    )
    headline = f"{count_of(len(rows), 'folder')}, {count_of(depth, 'level')} down (--depth N for more)."
    return Report("folders", headline, _COLUMNS, [_row(row) for row in rows], notes)


def folder_report(address: Address, owner: str, entries: Sequence[str], rows: Sequence[FolderRow]) -> Report:
    """Show one folder's list entry by entry, and what lies right below it."""
    path = address.path.decode("utf-8", "surrogateescape")
    notes = ["Its list, in the order in which it is looked at:", *(f"  {entry}" for entry in entries)]
    return Report("folder", f"{address.system}:{path} belongs to {owner}.", _COLUMNS, [_row(r) for r in rows], notes)
