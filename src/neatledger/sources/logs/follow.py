"""Files that grow: read from where the last reading ended, also when they were rotated, compressed or cut."""

from __future__ import annotations

import gzip
import os
import re
import zlib
from collections.abc import Iterator
from dataclasses import dataclass, field
from datetime import UTC, datetime
from hashlib import sha256
from pathlib import Path
from typing import BinaryIO, NamedTuple, cast

from neatledger.core.trail.records import Position
from neatledger.errors import SourceError
from neatledger.sources.listed import files_in

__all__ = ["Following", "Line"]

_HEAD = 4096
_LONGEST = 65_536  # bytes of a line; what is longer is told and left
_CHUNK = 1 << 20


class Line(NamedTuple):
    """One whole line without its end, None where it is too long; the position after it, and its latest day.

    `is_anew` says that its file is not the one that was read last, `is_other` that the one read last is gone.
    """

    data: bytes | None
    after: Position
    file: str
    latest: datetime
    is_anew: bool = False
    is_other: bool = False


@dataclass(slots=True)
class Following:
    """The new lines of one log, file by file, the oldest first; `notes` says what is missing between."""

    path: Path
    position: Position | None
    notes: list[str] = field(default_factory=list)
    record_bytes: int = 0  # of records of one length; 0: lines
    _is_other: bool = False

    def lines(self) -> Iterator[Line]:
        """Yield whole lines that no reading before this one had; raises `SourceError`."""
        if not self.path.exists():
            raise SourceError("is not there", str(self.path))
        if not self.path.is_file():
            # A pipe would be waited for, for ever.
            raise SourceError("is no file", str(self.path))
        for path, position in self._files():
            try:
                yield from self._lines_of(path, position)
            except (OSError, EOFError, zlib.error) as error:
                why = getattr(error, "strerror", None) or error
                if path == self.path:
                    raise SourceError(f"cannot be read: {why}", str(path)) from error
                # A rotated file that is damaged must not keep what is new from being read for ever.
                self.notes.append(f"{path.name} cannot be read to its end: {why}")

    def _files(self) -> Iterator[tuple[Path, Position]]:
        known, places = self.position, [self.path]
        if known is None or not _is_same(self.path, known):
            older = _rotated(self.path)
            if known is not None:
                found = next((place for place, one in enumerate(older) if _is_same(one, known)), None)
                if found is None:
                    self._is_other = True
                    self.notes.append(
                        f"{self.path.name} is another file than at the last reading, and that one is gone"
                    )
                older = [] if found is None else older[found:]
            places = [*older, self.path]
        heads: set[bytes] = set()
        for place in places:
            head = _head(place)
            # A copy of a file that was just read says nothing new.
            if head and head not in heads:
                heads.add(head)
                yield place, known if known is not None and _is_same(place, known) else Position()

    def _lines_of(self, path: Path, position: Position) -> Iterator[Line]:
        with _open(path) as file:
            name = path.name
            origin = self.position is not None and not position.offset, self._is_other
            latest = datetime.fromtimestamp(path.stat().st_mtime, UTC)
            length = position.head_length
            head = file.read(_HEAD)
            if len(head) > length:
                position = position._replace(head=sha256(head).digest(), head_length=len(head))
            size = file.seek(0, 2)
            if size < position.offset:
                self.notes.append(f"{path.name} is shorter than at the last reading: what was cut off is missing")
                yield Line(b"", position._replace(offset=size), name, latest)
                return
            file.seek(position.offset)
            waiting = b""
            is_too_long = False
            while self.record_bytes and len(data := file.read(self.record_bytes)) == self.record_bytes:
                offset = position.offset + self.record_bytes
                position = Position(position.head, position.head_length, offset, position.lines + 1)
                yield Line(data, position, name, latest, *origin)
            while not self.record_bytes and (chunk := file.read(_CHUNK)):
                pieces = (waiting + chunk).split(b"\n")
                waiting = pieces.pop()
                for piece in pieces:
                    length = position.offset + len(piece) + 1
                    position = Position(position.head, position.head_length, length, position.lines + 1)
                    whole = None if is_too_long or len(piece) > _LONGEST else piece.removesuffix(b"\r")
                    is_too_long = False
                    yield Line(whole, position, name, latest, *origin)
                if len(waiting) > _LONGEST:
                    # Its rest is skipped piece by piece; the position goes along, so that it is one line still.
                    position = position._replace(offset=position.offset + len(waiting))
                    waiting, is_too_long = b"", True


def _open(path: Path) -> BinaryIO:
    return cast(BinaryIO, gzip.open(path, "rb")) if path.suffix == ".gz" else path.open("rb")


def _is_same(path: Path, known: Position) -> bool:
    try:
        with _open(path) as file:
            head = file.read(known.head_length)
    except (OSError, EOFError, zlib.error):
        return False
    return len(head) == known.head_length and sha256(head).digest() == known.head


def _head(path: Path) -> bytes:
    """Return the first bytes of a file; what cannot be read has some of its own, and is told when it is read."""
    try:
        with _open(path) as file:
            return file.read(_HEAD)
    except (OSError, EOFError, zlib.error):
        return os.fsencode(path)


def _rotated(path: Path) -> list[Path]:
    """Return what a rotated file may be called by now, oldest first: a number or a day behind, packed or not."""
    form = re.compile(re.escape(path.name) + r"[.-]\d+(-\d+)*(\.gz)?")
    found = [(facts.st_mtime, one) for one, facts in files_in(path.parent) if form.fullmatch(one.name)]
    return [one for _, one in sorted(found)]
