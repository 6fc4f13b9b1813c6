"""The forms of logs, and how one that the plan names is read: the one table of them."""

from __future__ import annotations

import os
from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass, field
from datetime import UTC, datetime, timedelta, tzinfo
from hashlib import sha256
from pathlib import Path
from typing import Any, NamedTuple
from zoneinfo import ZoneInfo, ZoneInfoNotFoundError

from neatledger.core.trail.records import Position, Record
from neatledger.errors import FormatError, SourceError
from neatledger.extras import extras_for
from neatledger.sources.contract import SourceContext
from neatledger.sources.logs.auditlog import AuditBlocks
from neatledger.sources.logs.follow import Following, Line
from neatledger.sources.logs.fullaudit import AuditLines
from neatledger.sources.logs.kernelaudit import AuditEvents
from neatledger.sources.logs.roots import Roots
from neatledger.sources.logs.signins import RECORD_BYTES, parse_sign_in
from neatledger.sources.logs.syslog import parse_line
from neatledger.sources.logs.weblog import parse_web_line

__all__ = ["FORMS", "LINE_FORMS", "Read", "Reading", "read_log"]

_PREFIX = "%u|%I|%m|%S"
_APP = "smbd_audit"
_FIRST_YEAR, _LAST_YEAR = 1980, 9000
_CLOCK_ERROR = timedelta(minutes=2)
_HOLE = timedelta(days=1)  # between two exports, from which on something may be missing


class Read(NamedTuple):
    """What one line came to: a record, a fault in words, or neither; `position` is where to go on from, if whole.

    `is_anew` says that its file is not the one that was read last, `is_other` that the one read last is gone.
    """

    record: Record | None
    fault: str
    position: Position | None
    file: str
    line: int
    is_anew: bool = False
    is_other: bool = False


@dataclass(slots=True)
class Reading:
    """The reading of one log: its settings, how far it was read, and what is to be told of it.

    `lost` takes what is missing between this reading and the one before, `notes` whatever else is to be known.
    """

    context: SourceContext
    settings: Mapping[str, Any]
    position: Position | None
    known: datetime | None = None  # the last moment that it told of before
    lost: list[str] = field(default_factory=list)
    notes: list[str] = field(default_factory=list)

    @property
    def path(self) -> Path:
        """The log's file; relative ones are of the office's folder."""
        return self.context.office_dir / str(self.settings["file"])

    @property
    def roots(self) -> dict[bytes, bytes]:
        """Folders of the server → paths in the system."""
        told: Mapping[str, str] = self.settings.get("roots") or {}
        return {os.fsencode(key.rstrip("/") or "/"): os.fsencode(one) for key, one in told.items()}

    @property
    def zone(self) -> tzinfo:
        """The zone of times that tell none; raises `FormatError`."""
        name = self.settings.get("zone")
        if name is None:
            local = datetime.now().astimezone().tzinfo
            assert local is not None, "astimezone gives one"
            return local
        try:
            return ZoneInfo(name)
        except (ZoneInfoNotFoundError, ValueError):
            raise FormatError(f"no time zone is called {name!r}", hint="such as Europe/London") from None


# Takes a line; returns a record or None, and whether a new reading may begin after it. Raises `FormatError`.
_Take = Callable[[str, datetime], tuple[Record | None, bool]]


def _smb(reading: Reading) -> _Take:
    audit, zone = AuditLines(reading.settings.get("prefix", _PREFIX), reading.roots), reading.zone

    def take(text: str, latest: datetime) -> tuple[Record | None, bool]:
        line = parse_line(text, zone, latest)
        if line is None:
            # Its text is not told: other programs write there too, and who knows what.
            raise FormatError("no line of a system log")
        return (audit.take(line.message.strip(), line.moment) if line.app == _APP else None), True

    return take


def _web(reading: Reading) -> _Take:
    below = reading.settings.get("below", "/")
    return lambda text, _latest: (parse_web_line(text, below), True)


def _directory(_: Reading) -> _Take:
    blocks = AuditBlocks()

    def take(text: str, _latest: datetime) -> tuple[Record | None, bool]:
        return blocks.take(text), not blocks.is_open

    return take


def _kernel(reading: Reading) -> _Take:
    events = AuditEvents(reading.roots or {b"/": b"/"})

    def take(text: str, _latest: datetime) -> tuple[Record | None, bool]:
        return events.take(text), not events.is_open

    return take


LINE_FORMS: dict[str, Callable[[Reading], _Take]] = {
    "smb": _smb,
    "web": _web,
    "directory": _directory,
    "kernel": _kernel,
}
"""The word of the plan → what makes a reader of such lines."""


def _lines(reading: Reading) -> Iterator[Read]:
    take = LINE_FORMS[reading.settings["form"]](reading)
    following = Following(reading.path, reading.position, reading.lost)
    last: Record | None = None
    for line in following.lines():
        read = _one(line, take)
        last = read.record or last
        yield read
    _tell_clock(reading, last)


def _tell_clock(reading: Reading, last: Record | None) -> None:
    """Say by how much a server's clock differs from this machine's, where its last line shows it."""
    if last is None:
        return
    try:
        written = datetime.fromtimestamp(reading.path.stat().st_mtime, UTC)
    except FileNotFoundError:
        # It is being rotated right now.
        return
    ahead = last.moment - written
    minutes = round(abs(ahead).total_seconds() / 60)
    if ahead > _CLOCK_ERROR:
        # A line cannot be of a time after it was written.
        reading.notes.append(f"the clock that writes it is {minutes:,} minutes ahead of this machine's")


def _one(line: Line, take: _Take) -> Read:
    where = line.file, line.after.lines, line.is_anew, line.is_other
    if line.data is None:
        return Read(None, "longer than any line of such a log", line.after, *where)
    text = line.data.decode("utf-8", "surrogateescape")
    if not text.strip():
        text = ""
    try:
        record, is_whole = take(text, line.latest) if text else (None, True)
        _check_year(record)
    except FormatError as error:
        return Read(None, str(error), line.after, *where)
    return Read(record, "", line.after if is_whole else None, *where)


def _check_year(record: Record | None) -> None:
    if record is not None and not _FIRST_YEAR <= record.moment.year <= _LAST_YEAR:
        raise FormatError(f"its year {record.moment.year} cannot be right")


def _sign_ins(reading: Reading) -> Iterator[Read]:
    is_refused = bool(reading.settings.get("refused", False))
    for line in Following(reading.path, reading.position, reading.lost, record_bytes=RECORD_BYTES).lines():
        where = line.file, line.after.lines, line.is_anew, line.is_other
        try:
            record = None if line.data is None else parse_sign_in(line.data, is_refused=is_refused)
            _check_year(record)
            yield Read(record, "", line.after, *where)
        except FormatError as error:
            yield Read(None, str(error), line.after, *where)


def _export(reading: Reading) -> Iterator[Read]:
    """Read a whole export, and take what comes after the rows that were read before."""
    from neatledger.sources.logs.exports import record_of, rows_of

    before, name = reading.position or Position(), reading.path.name
    roots, zone = Roots(reading.roots or {b"/": b"/"}), reading.zone
    digest, taken = sha256(), 0
    rows = list(rows_of(reading.path, reading.settings))
    for _, row in rows[: before.offset]:
        digest.update(repr(sorted(row.items())).encode())
    # What was read stands there still, if all of it does; else it is another export, of which what is old is known.
    is_same = len(rows) >= before.offset and digest.digest() == (before.head or sha256().digest())
    if not is_same:
        digest = sha256()
    for place, (number, row) in enumerate(rows):
        if is_same and place < before.offset:
            continue
        digest.update(repr(sorted(row.items())).encode())
        taken = place + 1
        position = Position(digest.digest(), 0, taken, number)
        where = name, number, not is_same, not is_same
        try:
            record = record_of(row, reading.settings, roots, zone)
            _check_year(record)
            if record is not None and not is_same and not reading.lost and reading.known is not None:
                if record.moment - reading.known > _HOLE:
                    reading.lost.append(f"{name} begins after what was read before")
                reading.known = None
            yield Read(record, "", position, *where)
        except FormatError as error:
            yield Read(None, str(error), position, *where)


def _accesslog(reading: Reading) -> Iterator[Read]:
    from neatledger.sources.logs.accesslog import entries_after, record_of_entry

    setting = (reading.context.settings.get("accounts") or {}).get("ldap")
    if not isinstance(setting, Mapping):
        raise SourceError("the system's accounts are not read from a directory", hint="accounts: {ldap: {url: …}}")
    base = str(reading.settings.get("base", "cn=accesslog"))
    if reading.settings.get("user"):
        setting = {**setting, "user": reading.settings["user"]}
    before = reading.position or Position()
    number = before.lines
    for start, entry in entries_after(
        reading.context.for_accounts(), setting, base, before.head.decode(), reading.lost
    ):
        number += 1
        position = Position(start.encode(), 0, number, number)
        try:
            yield Read(record_of_entry(entry), "", position, base, number)
        except FormatError as error:
            yield Read(None, str(error), position, base, number)


def _service(reading: Reading) -> Iterator[Read]:
    from neatledger.sources.logs.activity import rows_after
    from neatledger.sources.logs.exports import record_of

    setting = reading.context.settings.get("sharing")
    if not isinstance(setting, Mapping) or "url" not in setting:
        raise SourceError("the service's own interface is not named", hint="sharing: {url: …} in the plan")
    before = reading.position or Position()
    roots, number = Roots({b"/": b"/"}), before.offset
    for row in rows_after(reading.context, setting, before.offset, reading.lost):
        number += 1
        position = Position(b"", 0, number, number)
        try:
            yield Read(record_of(row, {}, roots, UTC), "", position, "activity", number)
        except FormatError as error:
            yield Read(None, str(error), position, "activity", number)


FORMS: dict[str, Callable[[Reading], Iterator[Read]]] = {
    **dict.fromkeys(LINE_FORMS, _lines),
    "sign-ins": _sign_ins,
    "table": _export,
    "accesslog": _accesslog,
    "service": _service,
}
"""The word of the plan → what reads such a log."""


def read_log(reading: Reading) -> Iterator[Read]:
    """Yield what is new in a log, line by line; raises `SourceError`."""
    try:
        with extras_for(reading.context.system):
            yield from FORMS[reading.settings["form"]](reading)
    except FormatError as error:
        raise SourceError(str(error), str(reading.settings.get("file") or reading.settings["form"])) from None
