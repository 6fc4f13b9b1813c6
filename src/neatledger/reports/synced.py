"""What a synced device would hold for a person."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Protocol

from neatledger.core.plan.space import SyncRules
from neatledger.core.space.sizes import show_size
from neatledger.core.space.synced import SyncedSystem
from neatledger.core.tree.address import Address
from neatledger.core.tree.columns import LARGE_BYTES
from neatledger.reports.report import Cell, Column, Report, Row, Size, count_of

__all__ = ["synced_report"]

_COLUMNS = (
    Column("what", "WHAT", cuts=True),
    Column("files", "FILES", number=True),
    Column("apparent_bytes", "SIZE", number=True),
    Column("because", "BECAUSE", wraps=True),
)


class Device(Protocol):
    """What a device of a person holds; `rules` is None where the plan has none."""

    @property
    def person(self) -> str: ...
    @property
    def systems(self) -> Mapping[str, SyncedSystem]: ...
    @property
    def folders(self) -> Sequence[Folder]: ...
    @property
    def rules(self) -> SyncRules | None: ...


class Folder(Protocol):
    """What stays of one folder right below a system's root."""

    @property
    def address(self) -> Address: ...
    @property
    def files(self) -> int: ...
    @property
    def bytes(self) -> int: ...


def synced_report(device: Device, when: str) -> Report:
    """Show what the person reads, what each rule leaves out, and what stays, by the first folder on the way."""
    rules = device.rules or SyncRules()
    rows: list[Row] = []
    for name, each in device.systems.items():
        rows.append(_row(f"{name}: reads", *each.reads, "every file that they can read and take away, by any way"))
        parts = (("folders", each.by_folder), ("kinds", each.by_kind), ("large files", each.by_size))
        rows += [
            _row(f"{name}: less {word}", -files, -size, _because(word, rules))
            for word, (files, size) in parts
            if files
        ]
    for folder in sorted(device.folders, key=lambda one: (-one.bytes, one.address)):
        rows.append(_row(folder.address, folder.files, folder.bytes, "stays"))
    files, size = (sum(each.holds[place] for each in device.systems.values()) for place in (0, 1))
    exact = all(each.is_exact for each in device.systems.values())
    most = "" if exact else "at most "
    headline = f"A device of {device.person} would hold {most}{count_of(files, 'file')}, {show_size(size)}"
    if rules.device is not None:
        too_much = "" if size <= rules.device else f": {show_size(size - rules.device)} too much"
        headline += f" of its {show_size(rules.device)}{too_much}"
    notes = []
    if device.rules is None:
        notes.append("The plan has no rules of syncing (sync: in office.yaml): all that they read is held.")
    if not exact:
        notes.append(
            f"Files below {show_size(LARGE_BYTES)} are not kept one by one: which of them are too large is not known."
        )
    empty = f"{device.person} has no account"
    return Report("synced", f"{headline}, as counted on {when}.", _COLUMNS, rows, notes, empty)


def _row(what: Cell, files: int, size: int, because: str) -> Row:
    return {"what": what, "files": files, "apparent_bytes": Size(size), "because": because}


def _because(word: str, rules: SyncRules) -> str:
    match word:
        case "folders":
            parts = [str(folder) for folder in rules.folders]
            return (
                f"left out: {', '.join(parts)}; what is seen twice, versions and bins"
                if parts
                else "seen twice, versions and bins"
            )
        case "kinds":
            return f"left out: {', '.join(sorted(rules.kinds))}"
        case _:
            return f"larger than {show_size(rules.largest or 0)}"
