"""One count in a file of its own: written where the files are, and taken into a ledger elsewhere, whole and once.

The file is a ZIP archive (ISO/IEC 21320-1): `manifest.json` names every part with its size and SHA-256 (FIPS 180-4),
`manifest.json.sig`, where a key was given, is an SSH signature over it; of each system `rows.json` holds the rows
that the ledger keeps as text and numbers, and the other parts its packed columns as they are.
"""

from __future__ import annotations

import json
import re
import zipfile
import zlib
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime
from hashlib import sha256
from typing import IO, Any

from neatledger.errors import LedgerError
from neatledger.ledger.engines.contract import Database

__all__ = ["NAMESPACE", "CarriedCount", "CarriedSystem", "read_carried", "write_carried"]

NAMESPACE = "neatledger-count"
"""What a signature is made for (PROTOCOL.sshsig), so that none of something else can be put in its place."""

_FORM = 2
_MANIFEST, _SIGNATURE = "manifest.json", "manifest.json.sig"
# What a part may have, unpacked: no count of ten million folders comes near, and a machine bears it.
_MOST_MANIFEST, _MOST_SIGNATURE, _MOST_PART, _MOST_PARTS = 1 << 24, 1 << 16, 1 << 26, 100_000
_WHEN = (1980, 1, 1, 0, 0, 0)  # what an archive must say; the count itself says when it was taken
_TABLES: Mapping[str, Sequence[str]] = {
    "accounts": (
        *("place", "login", "ident", "primary_ident", "name", "email", "home", "shell", "state", "note"),
        *("may_use", "last_seen", "is_entitled", "admission"),
    ),
    "account_groups": ("place", "name", "ident", "members", "nested", "untold"),
    "not_seen": ("place", "path", "why"),
}
_NUMBERS = frozenset({"place", "may_use", "is_entitled", "folders", "files"})
_BYTES = frozenset({"path"})
_SORTS = {int: "number", dict: "bytes", str: "text"}
_SURVEY = ("system", "source", "model", "folders", "files", "facts")


def write_carried(
    db: Database, count: int, office: str, out: IO[bytes], signed: Callable[[bytes], str] | None
) -> str:
    """Write a count of an office's ledger into a file, and return its digest.

    `signed` makes the signature of the manifest, which says of which office, systems, sources and list models it is.
    """
    taken_at, tool = db.execute("SELECT taken_at, tool FROM counts WHERE id = ?", (count,)).fetchone()
    parts: dict[str, list[int | str]] = {}
    systems: list[dict[str, Any]] = []
    # What is packed is packed: only the rows of text are worth the work.
    with zipfile.ZipFile(out, "w", zipfile.ZIP_STORED) as archive:

        def put(name: str, data: bytes, method: int = zipfile.ZIP_STORED) -> None:
            archive.writestr(zipfile.ZipInfo(name, _WHEN), data, method)
            parts[name] = [len(data), sha256(data).hexdigest()]

        query = f"SELECT id, {', '.join(_SURVEY)} FROM surveys WHERE count_id = ? ORDER BY id"
        for place, (number, *survey) in enumerate(db.execute(query, (count,)).fetchall()):
            systems.append(dict(zip(_SURVEY[:-1], survey, strict=False)))
            rows = {
                name: [[_plain(cell) for cell in row] for row in db.execute(
                    f"SELECT {', '.join(columns)} FROM {name} WHERE survey_id = ? ORDER BY place", (number,)
                )]
                for name, columns in _TABLES.items()
            }  # fmt: skip
            text = json.dumps({"survey": survey, **rows}, separators=(",", ":"))
            put(f"{place}/rows.json", text.encode(), zipfile.ZIP_DEFLATED)
            for (data,) in db.execute("SELECT data FROM shared WHERE survey_id = ?", (number,)):
                put(f"{place}/shared", data)
            packed = "SELECT name, chunk, data FROM packed WHERE survey_id = ? ORDER BY name, chunk"
            for name, chunk, data in db.execute(packed, (number,)):
                put(f"{place}/{name}/{chunk}", data)
        whole: dict[str, Any] = {"count": _FORM, "office": office, "taken_at": taken_at, "tool": tool}
        whole |= {"systems": systems, "parts": parts}
        manifest = json.dumps(whole, indent=1).encode()
        archive.writestr(zipfile.ZipInfo(_MANIFEST, _WHEN), manifest, zipfile.ZIP_DEFLATED)
        if signed is not None:
            archive.writestr(zipfile.ZipInfo(_SIGNATURE, _WHEN), signed(manifest))
    return sha256(manifest).hexdigest()


def _plain(cell: object) -> object:
    return {"hex": cell.hex()} if isinstance(cell, bytes) else cell


@dataclass(frozen=True, slots=True)
class CarriedSystem:
    """What the manifest says of one system; the rows of it must say the same."""

    system: str
    source: str
    model: str
    folders: int
    files: int


@dataclass
class CarriedCount:
    """A count in a file, its manifest read; `digest` stands for all of it, `signature` may be empty."""

    office: str
    taken_at: datetime
    tool: str
    systems: Sequence[CarriedSystem]
    digest: str
    manifest: bytes
    signature: str
    _archive: zipfile.ZipFile
    _parts: Mapping[str, tuple[int, str]]

    def insert(self, db: Database, add_survey: Callable[[Sequence[object]], int]) -> list[int]:
        """Write every system's rows within a transaction, and return their numbers; raises `LedgerError`.

        `add_survey` writes the row of a survey, as `surveys` has it but for its numbers, and returns its number.
        """
        numbers = []
        for place in range(len(self.systems)):
            try:
                rows = json.loads(self._part(f"{place}/rows.json"))
                survey = rows["survey"]
                tables = {name: list(rows[name]) for name in _TABLES}
            except (ValueError, KeyError, TypeError, RecursionError) as error:
                raise LedgerError(f"its rows cannot be read: {error}", hint=_HINT) from None
            number = add_survey(_cells(_SURVEY, survey))
            if CarriedSystem(*survey[:-1]) != self.systems[place]:
                raise LedgerError("its parts are of different counts")
            for name, columns in _TABLES.items():
                marks = ", ".join("?" * (len(columns) + 1))
                db.executemany(
                    f"INSERT INTO {name} (survey_id, {', '.join(columns)}) VALUES ({marks})",
                    ((number, *_cells(columns, row)) for row in tables[name]),
                )
            self._insert_parts(db, place, number)
            numbers.append(number)
        return numbers

    def _insert_parts(self, db: Database, place: int, number: int) -> None:
        prefix = f"{place}/"
        for name in self._parts:
            if not name.startswith(prefix) or name == f"{place}/rows.json":
                continue
            data = self._part(name)
            if name == f"{place}/shared":
                db.execute("INSERT INTO shared VALUES (?, ?)", (number, data))
                continue
            found = _CHUNK_NAME.fullmatch(name)
            if found is None:
                raise LedgerError(f"no part of a count is called {name!r}", hint=_HINT)
            values = (number, found["column"], int(found["chunk"]), data)
            db.execute("INSERT INTO packed (survey_id, name, chunk, data) VALUES (?, ?, ?, ?)", values)

    def _part(self, name: str) -> bytes:
        size, digest = self._parts[name]
        if not 0 <= size <= _MOST_PART:
            raise LedgerError(f"the part {name} says that it has {size:,} bytes, which none has", hint=_HINT)
        try:
            if self._archive.getinfo(name).file_size != size:
                raise LedgerError(f"the part {name} is not as it was written", hint=_HINT)
            with self._archive.open(name) as part:
                # One byte more than it is to have: a part that grows when it is unpacked is not read to its end.
                data = part.read(size + 1)
        except _UNREADABLE as error:
            raise LedgerError(f"the part {name} cannot be read: {error}", hint=_HINT) from None
        if len(data) != size or sha256(data).hexdigest() != digest:
            raise LedgerError(f"the part {name} is not as it was written", hint=_HINT)
        return data


_HINT = "copy the file again, or count again where it was made"
# What reading an archive of another's making raises; a `RuntimeError` is one that is encrypted, or too deep.
_UNREADABLE = (KeyError, ValueError, OSError, EOFError, zipfile.BadZipFile, zlib.error, RuntimeError, OverflowError)
_CHUNK_NAME = re.compile(r"[0-9]+/(?P<column>[a-z_]+\.[a-z_]+)/(?P<chunk>[0-9]{1,9})")


def _cells(columns: Sequence[str], row: Any) -> list[object]:
    """Return the cells of a row as a ledger has them; raises `LedgerError` where one is of another sort."""
    if not isinstance(row, list) or len(row) != len(columns):
        raise LedgerError("a row of it has other columns", hint=_HINT)
    found: list[object] = []
    for column, value in zip(columns, row, strict=True):
        sort = int if column in _NUMBERS else dict if column in _BYTES else str
        if type(value) is not sort:
            raise LedgerError(f"{column} of a row of it is no {_SORTS[sort]}", hint=_HINT)
        try:
            found.append(bytes.fromhex(value["hex"]) if isinstance(value, dict) else value)
        except (KeyError, ValueError, TypeError):
            raise LedgerError(f"{column} of a row of it is no bytes", hint=_HINT) from None
    return found


def read_carried(file: IO[bytes], where: str) -> CarriedCount:
    """Read the manifest of a file, and see that all parts are there; raises `LedgerError`."""
    try:
        archive = zipfile.ZipFile(file)
        held = archive.namelist()
        if len(held) > _MOST_PARTS or len(set(held)) < len(held):
            raise ValueError("it has more parts than any count, or one twice")
        manifest = _read_most(archive, _MANIFEST, _MOST_MANIFEST)
        signature = _read_most(archive, _SIGNATURE, _MOST_SIGNATURE).decode("ascii") if _SIGNATURE in held else ""
        whole = json.loads(manifest)
        if whole["count"] != _FORM:
            older = "an older" if whole["count"] == 1 else "a newer"
            raise LedgerError(f"made by {older} version", where, "bring both to the same version, and count again")
        parts = {str(name): (_number(size), str(digest)) for name, (size, digest) in whole["parts"].items()}
        systems = [_system(told) for told in whole["systems"]]
        names = [told.system for told in systems]
        taken = datetime.fromisoformat(whole["taken_at"])
        missing = sorted(set(parts) - set(held))
        if missing or taken.tzinfo is None or len(set(names)) < len(names) or not names:
            raise ValueError(f"the part {missing[0]} is not there" if missing else "its manifest says too little")
        if not all(f"{place}/rows.json" in parts for place in range(len(names))):
            raise ValueError("a system of it has no rows")
    except LedgerError:
        raise
    except (*_UNREADABLE, TypeError) as error:
        raise LedgerError(f"this is no whole count of count --export: {error}", where, _HINT) from None
    digest = sha256(manifest).hexdigest()
    office = str(whole.get("office", ""))
    return CarriedCount(office, taken, str(whole["tool"]), systems, digest, manifest, signature, archive, parts)


def _number(value: object) -> int:
    if type(value) is not int:
        raise ValueError(f"{value!r} is no number")
    return value


def _system(told: Mapping[str, Any]) -> CarriedSystem:
    system, source, model = (str(told[key]) for key in ("system", "source", "model"))
    return CarriedSystem(system, source, model, _number(told["folders"]), _number(told["files"]))


def _read_most(archive: zipfile.ZipFile, name: str, most: int) -> bytes:
    if archive.getinfo(name).file_size > most:
        raise ValueError(f"{name} is too large")
    with archive.open(name) as part:
        return part.read(most)
