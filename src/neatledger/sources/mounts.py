"""Where other file systems begin in a tree: this machine's table of mounts (proc(5), /proc/PID/mountinfo)."""

from __future__ import annotations

import os
import re
from pathlib import Path

__all__ = ["mounts_below"]

_ESCAPED = re.compile(rb"\\([0-7]{3})")


def mounts_below(root: Path) -> frozenset[tuple[bytes, ...]] | None:
    """Return the paths below a folder at which something is mounted, as names; None where that is not told."""
    try:
        table = Path("/proc/self/mountinfo").read_bytes()
    except OSError:
        return None
    top = os.fsencode(os.path.realpath(root)).rstrip(b"/") + b"/"
    points = [_ESCAPED.sub(lambda code: bytes([int(code[1], 8)]), line.split(b" ")[4]) for line in table.splitlines()]
    return frozenset(
        tuple(point[len(top) :].split(b"/")) for point in points if point.startswith(top) and point != top
    )
