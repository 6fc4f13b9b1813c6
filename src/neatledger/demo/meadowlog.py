"""What the web server before the team folders wrote down: quiet weeks, two nights of guessing, and then nothing."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import UTC, datetime, timedelta

__all__ = ["NEW_FILE", "web_text"]

NEW_FILE = datetime(2026, 11, 17, tzinfo=UTC)
"""When somebody put another file in the place of the log, and the old one was gone."""

_FIRST_DAY = datetime(2026, 9, 21, tzinfo=UTC)
_LAST_DAY = datetime(2026, 11, 12, tzinfo=UTC)
_READERS = (("hale", "10.1.1.12"), ("rook", "10.1.1.21"), ("fenn", "10.1.1.22"), ("stone", "10.1.1.14"))
_TIMES_A_DAY = 7
_GUESSED = ("thorne", "hale", "quill", "rook", "fenn", "stone", "kestrel", "thistle")
_AGENT = '"-" "files/3.1"'


def web_text(since: datetime | None, until: datetime) -> str:
    """Return the lines of what was asked after a moment (None: from the beginning), up to another."""
    return "".join(
        f'{address} - {who} [{when:%d/%b/%Y:%H:%M:%S +0000}] "GET /dav{path} HTTP/1.1" {status} 24000 {_AGENT}\n'
        for when, address, who, path, status in sorted([*_quiet(), *_nights()])
        if (since is None or when > since) and when <= until
    )


def _quiet() -> Iterator[tuple[datetime, str, str, str, int]]:
    day = _FIRST_DAY
    while day <= _LAST_DAY:
        for place, (who, address) in enumerate(_READERS if day.weekday() < 5 else ()):
            for number in range(_TIMES_A_DAY):
                when = day + timedelta(hours=8, minutes=11 * place + 70 * number)
                yield when, address, who, "/Teams/Protocols/Dental/Scaling.odt", 200
        day += timedelta(days=1)
    # After a week without a line the new file begins.
    yield datetime(2026, 11, 22, 10, 12, tzinfo=UTC), "10.1.1.14", "stone", "/Teams/Protocols/Dental/Scaling.odt", 200


def _nights() -> Iterator[tuple[datetime, str, str, str, int]]:
    night = datetime(2026, 11, 11, 2, 13, tzinfo=UTC)
    for number in range(14):
        yield night + timedelta(seconds=9 * number), "203.0.113.50", "hale", "/", 401
    # Hale himself is never up at that hour, and nobody ever came from there.
    yield night + timedelta(seconds=140), "203.0.113.50", "hale", "/Teams/Cases%202026/Cats/Bracken%202026.odt", 200
    for number, who in enumerate(_GUESSED):
        yield night + timedelta(days=1, seconds=31 * number), "198.51.100.77", who, "/", 401
