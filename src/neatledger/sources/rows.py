"""Put single rows (folders and files in any order) together into the tables of a tree."""

from __future__ import annotations

import os
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field

import numpy as np

from neatledger.core.lists.descriptors import DACL_PRESENT, SELF_RELATIVE, Ace, AceType, Acl, Descriptor
from neatledger.core.lists.identifiers import EVERYONE
from neatledger.core.lists.nt import pack_body
from neatledger.core.tree.columns import LARGE_BYTES, NotSeen, SeenState, kind_of
from neatledger.sources.assemble import Assembled, assemble
from neatledger.sources.sums import FILE_ROW, sum_up
from neatledger.sources.walk import Part, colliding_names

__all__ = ["Path", "Row", "RowTree", "server_root"]

Path = tuple[bytes, ...]


@dataclass(frozen=True, slots=True)
class Row:
    """One folder, file, link or other: where it is, its owner's identifier, its stored list, its figures.

    Sizes in bytes, `changed` in Unix seconds; `default` is a default list's body, None where there is none.
    """

    path: Path
    kind: str
    owner: str
    body: bytes
    default: bytes | None = None
    size: int = 0
    occupied: int = 0
    changed: int = 0
    identity: int = 0
    links: int = 1
    state: SeenState = SeenState.WHOLE
    device: int = 0


@dataclass(slots=True)
class RowTree:
    """The rows of one system by path, and what was not seen of it."""

    rows: dict[Path, Row] = field(default_factory=dict)
    not_seen: list[NotSeen] = field(default_factory=list)
    _owners: dict[str, int] = field(default_factory=dict)

    def add(self, row: Row) -> None:
        """Add a row; a later one for the same path counts."""
        self.rows[row.path] = row

    def miss(self, path: Path, why: str) -> None:
        """Note what was not seen."""
        self.not_seen.append(NotSeen(b"/" + b"/".join(path), why))

    def assemble(self) -> Assembled:
        """Return the tables, and what was not seen; rows without a folder above them are among that."""
        tree = assemble([self._part()], list(self._owners).__getitem__)
        tree.not_seen = sorted(tree.not_seen + self.not_seen, key=lambda item: (item.path, item.why))
        return tree

    def _part(self) -> Part:
        """Put the rows in the order of reading: each folder's own row, its files, then its subfolders by name."""
        below = self._by_folder()
        part = Part(entries=len(self.rows) - 1)
        waiting = [(self.rows[()], -1)]
        while waiting:
            row, parent = waiting.pop()
            number = len(part.names)
            inside = below.get(row.path, [])
            default = -1 if row.default is None else _number(part, row.default)
            links = sum(1 for each in inside if each.kind == "link")
            others = sum(1 for each in inside if each.kind == "other")
            part.names.append(row.path[-1] if row.path else b"")
            owner = self._owner(row)
            part.folders.extend((parent, len(row.path), _number(part, row.body), default, owner, int(row.state)))
            part.folders.extend((row.size, row.occupied, row.changed, row.identity, row.device, links, others))
            self._add_others(part, number, [each for each in inside if each.kind in ("link", "other")])
            self._add_files(part, number, [each for each in inside if each.kind == "file"])
            names = [os.fsdecode(each.path[-1]) for each in inside]
            part.collisions += ((number, name) for name in colliding_names(names))
            folders = [each for each in inside if each.kind == "folder"]
            waiting += [(each, number) for each in sorted(folders, key=lambda each: each.path, reverse=True)]
        return part

    def _by_folder(self) -> Mapping[Path, Iterable[Row]]:
        below: dict[Path, list[Row]] = {}
        for row in self.rows.values():
            above = self.rows.get(row.path[:-1])
            if row.path and (above is None or above.kind != "folder"):
                self.miss(row.path, "there is no folder above it")
            elif row.path:
                below.setdefault(row.path[:-1], []).append(row)
        return below

    def _owner(self, row: Row) -> int:
        return self._owners.setdefault(row.owner, len(self._owners))

    def _add_others(self, part: Part, folder: int, others: list[Row]) -> None:
        for row in others:
            listed, owner = _number(part, row.body), self._owner(row)
            part.others.extend((folder, listed, owner, 1, row.size, row.occupied))
            if row.links > 1:
                part.hard.extend((folder, listed, owner, -1, row.identity, row.size, row.occupied, row.device))

    def _add_files(self, part: Part, folder: int, files: list[Row]) -> None:
        numbers: list[int] = []
        names: list[bytes] = []
        for row in files:
            kind = part.kinds.setdefault(os.fsdecode(kind_of(row.path[-1])), len(part.kinds))
            listed, owner = _number(part, row.body), self._owner(row)
            numbers += (folder, listed, owner, kind, row.size, row.occupied // 512, row.changed)
            names.append(row.path[-1])
            if row.links > 1:
                part.hard.extend((folder, listed, owner, kind, row.identity, row.size, row.occupied, row.device))
            if row.size >= LARGE_BYTES:
                part.large.extend((folder, listed, owner, kind, row.size, row.occupied, row.changed))
                part.large_names.append(names[-1])
        if files:
            rows = np.array(numbers, dtype=np.int64).reshape(-1, len(FILE_ROW))
            part.sums.append(sum_up(rows, names))


def _number(part: Part, body: bytes) -> int:
    return part.lists.setdefault(body, len(part.lists))


def server_root() -> Row:
    """Return the row of a server's root, which holds its shares and nothing else."""
    descriptor = Descriptor(
        "", "", Acl((Ace(AceType.ALLOW, 0, 0x00120089, EVERYONE),)), None, DACL_PRESENT | SELF_RELATIVE
    )
    return Row((), "folder", "", pack_body(descriptor))
