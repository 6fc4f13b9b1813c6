"""Days as they are here."""

from __future__ import annotations

from datetime import date, datetime, time

__all__ = ["begin_of"]


def begin_of(day: date) -> datetime:
    """Return when a day begins, in local time."""
    return datetime.combine(day, time.min).astimezone()
