"""Days as a calendar (RFC 5545): one whole-day event each, with the same identity in every run."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime, timedelta
from hashlib import sha256

from neatledger.reports.lapses import CalendarDay

__all__ = ["calendar_bytes"]


def calendar_bytes(days: Sequence[CalendarDay], name: str, now: datetime) -> bytes:
    """Return a calendar.

    `now` (UTC) is the moment that events are stamped with. An event ends before the next day (section 3.6.1), is
    no time that anybody is busy (section 3.8.2.7), and reminds a week ahead.
    """
    from icalendar import Alarm, Calendar, Event

    calendar = Calendar()
    calendar.add("prodid", "-//Neat Ledger//lapses//EN")
    calendar.add("version", "2.0")
    calendar.add("method", "PUBLISH")
    calendar.add("x-wr-calname", name)
    for one in days:
        event = Event()
        event.add("uid", f"{sha256(one.key.encode('utf-8', 'surrogateescape')).hexdigest()[:32]}@neatledger")
        event.add("dtstamp", now)
        event.add("dtstart", one.day)
        event.add("dtend", one.day + timedelta(days=1))
        event.add("summary", _plain(one.title))
        event.add("description", _plain(one.text))
        event.add("transp", "TRANSPARENT")
        alarm = Alarm()
        alarm.add("action", "DISPLAY")
        alarm.add("description", _plain(one.title))
        alarm.add("trigger", timedelta(days=-7))
        event.add_component(alarm)
        calendar.add_component(event)
    made: bytes = calendar.to_ical()
    return made


def _plain(text: str) -> str:
    """Return text that UTF-8 and a calendar's lines can hold: what cannot be shown is escaped."""
    safe = text.encode("utf-8", "backslashreplace").decode()
    return "".join(char if char.isprintable() or char == "\n" else f"\\x{ord(char):02x}" for char in safe)
