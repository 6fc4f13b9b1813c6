"""What ``barn`` tells of two backups, one that shrank in the end and one that stopped, and of its devices."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta

__all__ = ["DEVICES", "MOUNTS", "mirror_text", "nightly_text"]

MOUNTS = """\
/dev/mapper/vault /srv/barn ext4 rw,relatime 0 0
/dev/sdb1 /srv/barn/Imaging ext4 rw,relatime 0 0
"""
"""What is mounted on ``barn``: the pictures got a disk of their own, which nobody encrypted."""
DEVICES = """\
/dev/mapper/vault is active and is in use.
  type:    LUKS2
  cipher:  aes-xts-plain64
  keysize: 512 bits
"""

_FIRST, _LAST = datetime(2026, 9, 25, 2, tzinfo=UTC), datetime(2026, 11, 23, 2, tzinfo=UTC)
_SIZE, _SHRUNK_SIZE = 84_000_000, 21_000_000
_MIRRORED = tuple(datetime(2026, 10, day, 4, tzinfo=UTC) for day in (4, 11, 18, 25))


def nightly_text(until: datetime) -> str:
    """Return the table of the nightly backup's runs up to a moment, in its program's own words."""
    lines = ["Started;Result;Size"]
    when, number = _FIRST, 0
    while when <= min(until, _LAST):
        # One night the line broke, and of one nobody wrote down how it ended.
        result = {20: "Failed", 41: ""}.get(number, "Completed")
        size = _SHRUNK_SIZE if when >= datetime(2026, 11, 22, tzinfo=UTC) else _SIZE + 90_000 * number
        lines.append(f"{when:%d.%m.%Y %H:%M};{result};{size}")
        when, number = when + timedelta(days=1), number + 1
    return "\n".join(lines) + "\n"


def mirror_text(until: datetime) -> str:
    """Return the table of the mirror's runs up to a moment."""
    return "".join(["when,done\n", *(f"{when.isoformat()},yes\n" for when in _MIRRORED if when <= until)])
