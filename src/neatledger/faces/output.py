"""Where a result goes, and in which form."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from typing import TextIO

from neatledger.files import open_replacement

__all__ = ["Output", "open_output"]


@dataclass(frozen=True, slots=True)
class Output:
    """One run's output: the form (table, csv, json), the file it is to go to (None: `stream`), and the terminal.

    `width` is that of the terminal in cells, 0 for none. `caveats` gives what to bear in mind of any result: it is
    asked when the result is there.
    """

    form: str
    target: str | None
    stream: TextIO
    width: int = 0
    is_colored: bool = False
    caveats: Callable[[], list[str]] = list


@contextmanager
def open_output(output: Output) -> Iterator[TextIO]:
    """Open where the result goes; a file appears whole, when all is written, or not at all."""
    if output.target is None:
        yield output.stream
        return
    with open_replacement(output.target) as out:
        yield out
