"""Long output on a terminal, through the pager of whoever reads it."""

from __future__ import annotations

import subprocess
from collections.abc import Sequence
from contextlib import suppress

__all__ = ["show_in_pager"]


def show_in_pager(words: Sequence[str], text: str) -> bool:
    """Show a text in a pager; tell whether there was one. Whoever leaves it early has seen enough."""
    try:
        process = subprocess.Popen(list(words), stdin=subprocess.PIPE, text=True, encoding="utf-8", errors="replace")
    except OSError:
        return False
    assert process.stdin is not None
    with suppress(BrokenPipeError):
        process.stdin.write(text)
        process.stdin.close()
    while True:
        try:
            process.wait()
        except KeyboardInterrupt:
            # Ctrl-C is the pager's own affair, as long as it is there.
            continue
        return True
