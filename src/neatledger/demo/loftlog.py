"""What the SMB server wrote down of two weeks: days of work, an evening when a folder went, and two refusals."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import UTC, datetime, timedelta

__all__ = ["log_text"]

_FIRST_DAY = datetime(2026, 11, 9, tzinfo=UTC)
_WORKDAYS = 5
_SCANS = 12


def log_text(since: datetime | None, until: datetime) -> str:
    """Return the lines of what was done after a moment (None: from the beginning), up to another."""
    lines = sorted(_deeds())
    return "".join(
        f"{when.isoformat()} loft smbd_audit: {who}|{address}|{device}|{share}|{rest}\n"
        for when, who, address, device, share, rest in lines
        if (since is None or when > since) and when <= until
    )


def _deeds() -> Iterator[tuple[datetime, str, str, str, str, str]]:
    for day in (one for week in (0, 7) for one in range(week, week + _WORKDAYS)):
        at = _FIRST_DAY + timedelta(days=day, hours=8)
        yield at, "vstone", "10.1.2.14", "books-1", "Accounts", "connect|ok|Accounts"
        for minute in (25, 130, 290):
            yield (
                at + timedelta(minutes=minute), "vstone", "10.1.2.14", "books-1", "Accounts",
                "create_file|ok|0x112|file|overwrite_if|/srv/loft/Accounts/Ledger 2026.ods",
            )  # fmt: skip
        for number in range(3):
            yield (
                at + timedelta(minutes=41 + 75 * number), "scanner2", "10.1.2.40", "scanner", "Scans",
                f"create_file|ok|0x112|file|create|/srv/loft/Scans/2026/Dental {day:02d}-{number}.dcm",
            )  # fmt: skip
        yield (
            at + timedelta(minutes=95), "orook", "10.1.2.21", "theatre-1", "Surgery",
            "create_file|ok|0x89|file|open|/srv/loft/Surgery/Protocols/Dental.odt",
        )  # fmt: skip
    # Somebody tidied up on a Thursday evening, and took more than they thought.
    evening = _FIRST_DAY + timedelta(days=10, hours=18, minutes=42)
    where = "mbrand", "10.1.2.33", "locum-1", "Scans"
    yield (evening, *where, "connect|ok|Scans")
    for number in range(_SCANS):
        path = f"/srv/loft/Scans/2025/Dental {number + 1:02d}.dcm"
        yield (evening + timedelta(seconds=20 + 2 * number), *where, f"unlinkat|ok|{path}")
    end = evening + timedelta(seconds=21 + 2 * _SCANS)
    yield (end, *where, "create_file|ok|0x10100|dir|open|/srv/loft/Scans/2025")
    yield (end + timedelta(seconds=1), *where, "unlinkat|ok|/srv/loft/Scans/2025")
    refused = _FIRST_DAY + timedelta(days=8, hours=10, minutes=5)
    for number in range(2):
        yield (
            refused + timedelta(seconds=40 * number), "tthistle", "10.1.2.35", "student-1", "Surgery",
            "unlinkat|fail (Permission denied)|/srv/loft/Surgery/Theatre list.ods",
        )  # fmt: skip
