"""A listing: what one system holds as a CSV file, for systems that cannot be reached from here.

Columns (docs/listing.md): path, type (folder, file, link, other), owner, group, mode, list, default,
bytes, occupied, changed, and if known identity and links. Paths are percent-encoded, lists are in the
POSIX text form with numbers. Rows that cannot be read are collected as not seen, and the rest is read.
"""

from __future__ import annotations

import csv
import os
from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from pathlib import Path
from urllib.parse import unquote_to_bytes

from neatledger.core.columns import NotSeen, SeenState, kind_of
from neatledger.core.lists.posix import pack_body
from neatledger.core.survey import Facts, Survey
from neatledger.errors import FormatError, SourceError
from neatledger.formats.posixacl import entries_from_text, pack_entries
from neatledger.sources.assemble import assemble, make_survey
from neatledger.sources.contract import SourceContext
from neatledger.sources.posixaccounts import read_accounts
from neatledger.sources.sums import sum_up
from neatledger.sources.walk import Part, colliding_names

__all__ = ["COLUMNS", "read"]

COLUMNS = ("path", "type", "owner", "group", "mode", "list", "default", "bytes", "occupied", "changed")
_OPTIONAL = ("identity", "links")
_TYPES = {"folder", "file", "link", "other"}


@dataclass(frozen=True, slots=True)
class _Row:
    path: tuple[bytes, ...]
    kind: str
    uid: int
    body: bytes
    default: bytes | None
    size: int
    occupied: int
    changed: int
    inode: int
    links: int


def read(context: SourceContext) -> Survey:
    """Read a listing and its accounts; settings: path, accounts."""
    path = context.office_dir / str(context.settings["path"])
    accounts, groups, not_seen = read_accounts(context)
    rows: dict[tuple[bytes, ...], _Row] = {}
    for row in _read_rows(path, not_seen):
        rows[row.path] = row
        context.progress(1)
    if () not in rows:
        raise SourceError("the listing has no row for its root", str(path), "add a folder with the path /")
    part = _make_part(rows, not_seen)
    tree = assemble([part])
    facts: Facts = {"entries": len(rows), "read_only": 0, "pool_bytes": None, "pool_free_bytes": None}
    return make_survey(context.system, "listing", tree, (accounts, groups, not_seen), facts)


def _read_rows(path: Path, not_seen: list[NotSeen]) -> Iterator[_Row]:
    try:
        with open(path, encoding="utf-8", errors="surrogateescape", newline="") as lines:
            reader = csv.DictReader(lines)
            missing = set(COLUMNS) - set(reader.fieldnames or ())
            if missing:
                raise SourceError(f"the listing lacks the columns {', '.join(sorted(missing))}", str(path))
            for values in reader:
                try:
                    yield _parse_row(values)
                except (ValueError, FormatError) as error:
                    place = os.fsencode(f"{path}:{reader.line_num}")
                    not_seen.append(NotSeen(place, f"a row that cannot be read: {error}"))
    except (OSError, csv.Error) as error:
        raise SourceError(f"cannot read the listing: {error}", str(path)) from None


def _parse_row(values: Mapping[str, str | None]) -> _Row:
    def text(column: str) -> str:
        return values.get(column) or ""

    def number(column: str, base: int = 10) -> int:
        found = int(text(column) or "0", base)
        if found < 0:
            raise ValueError(f"{column} is below nought")
        return found

    kind = text("type")
    if kind not in _TYPES:
        raise ValueError(f"type {kind!r} is none of {', '.join(sorted(_TYPES))}")
    path = tuple(part for part in unquote_to_bytes(os.fsencode(text("path"))).split(b"/") if part)
    entries = pack_entries(entries_from_text(text("list")))
    body = pack_body(number("mode", 8), number("group"), entries)
    default = pack_entries(entries_from_text(text("default"))) if text("default") else None
    figures = [number(column) for column in ("bytes", "occupied", "changed", "identity", "links")]
    packed = None if default is None else pack_body(0, 0, default)
    return _Row(path, kind, number("owner"), body, packed, *figures)


def _make_part(rows: Mapping[tuple[bytes, ...], _Row], not_seen: list[NotSeen]) -> Part:
    """Put the rows in the order of reading: each folder's own row, its files, then its subfolders by name."""
    below: dict[tuple[bytes, ...], list[_Row]] = {}
    for row in rows.values():
        above = rows.get(row.path[:-1])
        if row.path and (above is None or above.kind != "folder"):
            not_seen.append(NotSeen(b"/" + b"/".join(row.path), "the listing has no folder above it"))
        elif row.path:
            below.setdefault(row.path[:-1], []).append(row)
    part = Part(entries=len(rows) - 1)
    waiting = [(rows[()], -1)]
    while waiting:
        row, parent = waiting.pop()
        number = len(part.names)
        inside = below.get(row.path, [])
        default = -1 if row.default is None else _number(part, row.default)
        links = sum(1 for each in inside if each.kind == "link")
        others = sum(1 for each in inside if each.kind == "other")
        part.names.append(row.path[-1] if row.path else b"")
        part.folders.extend((parent, len(row.path), _number(part, row.body), default, row.uid, int(SeenState.WHOLE)))
        part.folders.extend((row.size, row.occupied, row.changed, row.inode, links, others))
        _add_files(part, number, [each for each in inside if each.kind == "file"])
        part.collisions += (
            (number, name) for name in colliding_names([os.fsdecode(each.path[-1]) for each in inside])
        )
        folders = sorted((each for each in inside if each.kind == "folder"), key=lambda each: each.path, reverse=True)
        waiting += [(each, number) for each in folders]
    return part


def _number(part: Part, body: bytes) -> int:
    return part.lists.setdefault(body, len(part.lists))


def _add_files(part: Part, folder: int, files: list[_Row]) -> None:
    if not files:
        return
    numbers: list[int] = []
    names: list[str] = []
    for row in files:
        name = os.fsdecode(row.path[-1])
        kind = part.kinds.setdefault(os.fsdecode(kind_of(row.path[-1])), len(part.kinds))
        listed = _number(part, row.body)
        numbers += (folder, listed, row.uid, kind, row.size, row.occupied // 512, row.changed)
        names.append(name)
        if row.links > 1:
            part.hard.extend((folder, listed, row.uid, kind, row.inode, row.size, row.occupied))
    part.sums.append(sum_up(numbers, names))
