"""What the program itself is at fault for, in one line that a report of it can be made from."""

from __future__ import annotations

import os
from collections.abc import Iterator
from types import TracebackType

from neatledger import __version__
from neatledger.formats.names import show_text

__all__ = ["spell_own_fault"]

_MOST_PLACES = 4


def spell_own_fault(error: Exception, kept: str = "what was written before it is kept") -> str:
    """Return in one line that the program itself is at fault, what is `kept`, and all that a report of it needs."""
    steps = [(step.tb_frame.f_code.co_filename, step.tb_lineno) for step in _traceback(error)]
    own = [f"{'/'.join(name.split(os.sep)[-2:])}:{line}" for name, line in steps if "neatledger" in name]
    what = show_text(f"{type(error).__name__}: {error}"[:200])
    where = " < ".join(reversed(own[-_MOST_PLACES:]))
    told = f"a fault of the program's own; {kept}"
    return f"{told} (for a report: version {__version__}, {what}, at {where}; python -X dev shows more)"


def _traceback(error: Exception) -> Iterator[TracebackType]:
    step = error.__traceback__
    while step is not None:
        yield step
        step = step.tb_next
