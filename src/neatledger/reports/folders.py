"""Folders with their owners and lists, and one folder's list in full."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Protocol

from neatledger.core.tree.address import Address
from neatledger.core.tree.columns import SeenState
from neatledger.reports.report import Column, Report, Row, count_of

__all__ = ["ListedFolder", "folder_report", "folders_report"]

_STATES = {
    SeenState.WHOLE: "",
    SeenState.NOT_OPENED: "contents not seen",
    SeenState.OTHER_FILE_SYSTEM: "another file system",
    SeenState.LIST_UNKNOWN: "list not seen",
}


class ListedFolder(Protocol):
    """One folder as the list of folders shows it; `odds` counts files with a list unlike their neighbours'."""

    @property
    def address(self) -> Address: ...
    @property
    def owner(self) -> str: ...
    @property
    def entries(self) -> tuple[str, ...]: ...
    @property
    def children(self) -> int: ...
    @property
    def files(self) -> int: ...
    @property
    def odds(self) -> int: ...
    @property
    def state(self) -> SeenState: ...


_COLUMNS = (
    Column("folder", "FOLDER", cuts=True),
    Column("owner", "OWNER", cuts=True),
    Column("list", "LIST", wraps=True),
    Column("folders", "FOLDERS", number=True),
    Column("files", "FILES", number=True),
    Column("odd_files", "OTHER FILES", number=True),
    Column("seen", "NOT SEEN"),
)


def _row(one: ListedFolder) -> Row:
    return {
        "folder": one.address,
        "owner": one.owner,
        "list": one.entries,
        "folders": one.children,
        "files": one.files,
        "odd_files": one.odds,
        "seen": _STATES[one.state],
    }


def folders_report(folders: Sequence[ListedFolder], depth: int) -> Report:
    """List folders down to a depth."""
    has_odds = any(one.odds for one in folders)
    notes = ["OTHER FILES have another list or owner than most files there."] if has_odds else []
    headline = f"{count_of(len(folders), 'folder')}, {count_of(depth, 'level')} down (--depth N for more)."
    return Report("folders", headline, _COLUMNS, [_row(one) for one in folders], notes)


def folder_report(address: Address, owner: str, entries: Sequence[str], below: Sequence[ListedFolder]) -> Report:
    """Show one folder's list entry by entry, and what lies right below it."""
    path = address.path.decode("utf-8", "surrogateescape")
    notes = ["Its list, in the order in which it is looked at:", *(f"  {entry}" for entry in entries)]
    headline = f"{address.system}:{path} belongs to {owner}."
    return Report("folder", headline, _COLUMNS, [_row(one) for one in below], notes)
