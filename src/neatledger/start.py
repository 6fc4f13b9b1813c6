"""Where the installed command begins: until the rest is there, Ctrl-C ends it without a word of Python's own."""

from __future__ import annotations

import os
import signal
import sys
from contextlib import suppress
from importlib import import_module
from types import FrameType

__all__ = ["main"]

_STOPPED = 130


def _stop(number: int, frame: FrameType | None) -> None:
    os.write(2, b"neatledger: stopped before it began\n")
    os._exit(_STOPPED)


def main() -> int:
    """Run the command; returns the exit status (see `cli.main`)."""
    # Where whoever started it has Ctrl-C ignored, as a shell does in the background, it stays so.
    heeds = signal.getsignal(signal.SIGINT) is signal.default_int_handler
    if heeds:
        signal.signal(signal.SIGINT, _stop)
    from neatledger.cli import main as run

    if heeds:
        signal.signal(signal.SIGINT, signal.default_int_handler)
    if "_ARGCOMPLETE" in os.environ:
        # A shell asks what a word may become; where what answers it is not installed, nothing is said.
        with suppress(ImportError):
            import_module("neatledger.commands.ways.completion").complete()
        return 0
    return run(sys.argv[1:])
