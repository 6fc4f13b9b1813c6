"""Days of a FILETIME: a count of 100 ns since 1601, in UTC (MS-DTYP section 2.3.3)."""

from __future__ import annotations

from datetime import UTC, date, datetime, timedelta

__all__ = ["day_of_filetime"]

_NEVER = (0, 0x7FFFFFFFFFFFFFFF)


def day_of_filetime(number: int) -> date | None:
    """Return the day of a count, None where it stands for "never" or for no day at all."""
    if number in _NEVER or number < 0:
        return None
    try:
        return (datetime(1601, 1, 1, tzinfo=UTC) + timedelta(microseconds=number // 10)).date()
    except OverflowError:
        return None
