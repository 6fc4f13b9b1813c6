"""The forms of logs, and how one that the plan names is read: the one table of them."""

from __future__ import annotations

import os
from collections.abc import Callable, Iterator, Mapping
from datetime import datetime, tzinfo
from pathlib import Path
from typing import Any, NamedTuple
from zoneinfo import ZoneInfo, ZoneInfoNotFoundError

from neatledger.core.trail.records import Position, Record
from neatledger.errors import FormatError, SourceError
from neatledger.sources.logs.auditlog import AuditBlocks
from neatledger.sources.logs.follow import Following, Line
from neatledger.sources.logs.fullaudit import AuditLines
from neatledger.sources.logs.syslog import parse_line
from neatledger.sources.logs.weblog import parse_web_line

__all__ = ["FORMS", "Read", "read_log"]

_PREFIX = "%u|%I|%m|%S"
_APP = "smbd_audit"
_FIRST_YEAR, _LAST_YEAR = 1980, 9000


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


# Takes a line; returns a record or None, and whether a new reading may begin after it. Raises `FormatError`.
_Take = Callable[[str, datetime], tuple[Record | None, bool]]


def _smb(settings: Mapping[str, Any], roots: Mapping[bytes, bytes]) -> _Take:
    audit = AuditLines(settings.get("prefix", _PREFIX), roots)
    zone = _zone(settings)

    def take(text: str, latest: datetime) -> tuple[Record | None, bool]:
        line = parse_line(text, zone, latest)
        if line is None:
            # Its text is not told: other programs write there too, and who knows what.
            raise FormatError("no line of a system log")
        return (audit.take(line.message.strip(), line.moment) if line.app == _APP else None), True

    return take


def _web(settings: Mapping[str, Any], _: Mapping[bytes, bytes]) -> _Take:
    below = settings.get("below", "/")
    return lambda text, _latest: (parse_web_line(text, below), True)


def _directory(_settings: Mapping[str, Any], _: Mapping[bytes, bytes]) -> _Take:
    blocks = AuditBlocks()

    def take(text: str, _latest: datetime) -> tuple[Record | None, bool]:
        return blocks.take(text), not blocks.is_open

    return take


FORMS: dict[str, Callable[[Mapping[str, Any], Mapping[bytes, bytes]], _Take]] = {
    "smb": _smb,
    "web": _web,
    "directory": _directory,
}
"""The word of the plan → what makes a reader of such lines."""


def read_log(
    folder: Path, settings: Mapping[str, Any], position: Position | None, notes: list[str]
) -> Iterator[Read]:
    """Yield what the new lines of a log come to; `notes` takes what is missing. Raises `SourceError`.

    Relative files are of the office's `folder`.
    """
    path = folder / settings["file"]
    told: Mapping[str, str] = settings.get("roots") or {}
    roots = {os.fsencode(key.rstrip("/") or "/"): os.fsencode(one) for key, one in told.items()}
    try:
        take = FORMS[settings["form"]](settings, roots)
    except FormatError as error:
        raise SourceError(str(error), str(path)) from None
    following = Following(path, position, notes)
    for line in following.lines():
        yield _one(line, take)


def _one(line: Line, take: _Take) -> Read:
    where = line.file, line.after.lines, line.is_anew, line.is_other
    if line.data is None:
        return Read(None, "longer than any line of such a log", line.after, *where)
    text = line.data.decode("utf-8", "surrogateescape")
    if not text.strip():
        text = ""
    try:
        record, is_whole = take(text, line.latest) if text else (None, True)
        if record is not None and not _FIRST_YEAR <= record.moment.year <= _LAST_YEAR:
            raise FormatError(f"its year {record.moment.year} cannot be right")
    except FormatError as error:
        return Read(None, str(error), line.after, *where)
    return Read(record, "", line.after if is_whole else None, *where)


def _zone(settings: Mapping[str, Any]) -> tzinfo:
    name = settings.get("zone")
    if name is None:
        local = datetime.now().astimezone().tzinfo
        assert local is not None, "astimezone gives one"
        return local
    try:
        return ZoneInfo(name)
    except (ZoneInfoNotFoundError, ValueError):
        raise FormatError(f"no time zone is called {name!r}", hint="such as Europe/London") from None
