"""Days as a calendar (RFC 5545): one whole-day event each, with the same identity in every run."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import date, datetime, timedelta
from hashlib import sha256

__all__ = ["calendar_bytes"]


def calendar_bytes(days: Sequence[tuple[date, str, str, str]], name: str, now: datetime) -> bytes:
    """Return a calendar: for each day a title, a text, and what tells the event from others.

    `now` (UTC) is the moment that events are stamped with. An event ends before the next day (section 3.6.1), is
    no time that anybody is busy (section 3.8.2.7), and reminds a week ahead.
    """
    from icalendar import Alarm, Calendar, Event

    calendar = Calendar()
    calendar.add("prodid", "-//Neat Ledger//lapses//EN")
    calendar.add("version", "2.0")
    calendar.add("method", "PUBLISH")
    calendar.add("x-wr-calname", name)
    for day, title, text, key in days:
        event = Event()
        event.add("uid", f"{sha256(key.encode('utf-8', 'surrogateescape')).hexdigest()[:32]}@neatledger")
        event.add("dtstamp", now)
        event.add("dtstart", day)
        event.add("dtend", day + timedelta(days=1))
        event.add("summary", _plain(title))
        event.add("description", _plain(text))
        event.add("transp", "TRANSPARENT")
        alarm = Alarm()
        alarm.add("action", "DISPLAY")
        alarm.add("description", _plain(title))
        alarm.add("trigger", timedelta(days=-7))
        event.add_component(alarm)
        calendar.add_component(event)
    made: bytes = calendar.to_ical()
    return made


def _plain(text: str) -> str:
    """Return text that UTF-8 and a calendar's lines can hold: what cannot be shown is escaped."""
    safe = text.encode("utf-8", "backslashreplace").decode()
    return "".join(char if char.isprintable() or char == "\n" else f"\\x{ord(char):02x}" for char in safe)
