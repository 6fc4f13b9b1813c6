"""Lines of the system log: RFC 5424, RFC 3164, and the form that many daemons of today write files in."""

from __future__ import annotations

import re
from datetime import UTC, datetime, timedelta, tzinfo
from typing import NamedTuple

__all__ = ["LogLine", "parse_line"]

# RFC 5424 section 6: PRI VERSION SP TIMESTAMP SP HOSTNAME SP APP-NAME SP PROCID SP MSGID SP STRUCTURED-DATA [SP MSG]
_NEW = re.compile(r"<\d{1,3}>1 (\S+) (\S+) (\S+) (\S+) (\S+) (-|(?:\[(?:[^\]\\]|\\.)*\])+)(?: (.*))?", re.DOTALL)
# RFC 3164 section 4: PRI is left out in files; a file of today may have a timestamp of RFC 3339 in its place.
_OLD = re.compile(
    r"(?:<\d{1,3}>)?([A-Z][a-z]{2} [ \d]\d \d\d:\d\d:\d\d) (\S+) ([^:\[\s]+)(?:\[(\d+)\])?: ?(.*)", re.DOTALL
)
_FILE = re.compile(r"(\d{4}-\d\d-\d\dT\S+) (\S+) ([^:\[\s]+)(?:\[(\d+)\])?: ?(.*)", re.DOTALL)
_BOM = "\ufeff"


class LogLine(NamedTuple):
    """One line: when (UTC), on which host, by which program, and what it said."""

    moment: datetime
    host: str
    app: str
    message: str


def parse_line(line: str, zone: tzinfo, latest: datetime) -> LogLine | None:
    """Return a line of a log; None for what is none.

    RFC 3164 tells neither year nor zone: it is the last such day before `latest` (UTC, a day is let pass for clocks
    that are ahead), by the clock of `zone`.
    """
    if found := _NEW.fullmatch(line):
        moment = _moment(found[1])
        return None if moment is None else LogLine(moment, found[2], found[3], (found[7] or "").removeprefix(_BOM))
    if found := _FILE.fullmatch(line):
        moment = _moment(found[1])
        return None if moment is None else LogLine(moment, found[2], found[3], found[5])
    if found := _OLD.fullmatch(line):
        old = _old_moment(found[1], zone, latest)
        return None if old is None else LogLine(old, found[2], found[3], found[5])
    return None


def _moment(text: str) -> datetime | None:
    """Return a timestamp of RFC 3339; one without a zone is none (RFC 5424 section 6.2.3)."""
    try:
        found = datetime.fromisoformat(text)
        return found.astimezone(UTC) if found.tzinfo is not None else None
    except (ValueError, OverflowError):
        return None


def _old_moment(text: str, zone: tzinfo, latest: datetime) -> datetime | None:
    year = latest.astimezone(zone).year + 1
    for _ in range(9):
        try:
            found = datetime.strptime(f"{year} {' '.join(text.split())}", "%Y %b %d %H:%M:%S").replace(tzinfo=zone)
            if found <= latest + timedelta(days=1):
                return found.astimezone(UTC)
        except ValueError:
            # The 29th of February, in a year that has none.
            pass
        year -= 1
    return None
