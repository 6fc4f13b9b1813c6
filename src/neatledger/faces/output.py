"""Where a result goes, and in which form."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from typing import TextIO

from neatledger.faces.table import Layout, Shortened
from neatledger.faces.view import WHOLE, View
from neatledger.files import open_replacement
from neatledger.reports.report import Report

__all__ = ["Output", "open_output"]


@dataclass(frozen=True, slots=True)
class Output:
    """One run's output: the form (table, csv, json), the file it is to go to (None: `stream`), and the terminal.

    `width` and `height` are those of the terminal in cells, 0 for none, and `pager` the words that start what shows
    long output there. `view` is which columns and rows are asked for. `caveats` gives what to bear in mind of any
    result, or (True) of one that says that all is well: it is asked when the result is there. Where `collected` is a
    list, results are put there and not shown. `counted` gives the number of the count asked, and its systems; `last`
    is asked as `caveats` is, for the last line; `shortened` gives addresses their short form.
    """

    form: str
    target: str | None
    stream: TextIO
    width: int = 0
    is_colored: bool = False
    caveats: Callable[[bool], list[str]] = lambda _: []
    view: View = WHOLE
    height: int = 0
    pager: tuple[str, ...] = ()
    collected: list[Report] | None = None
    counted: Callable[[], tuple[int, list[str]]] = lambda: (0, [])
    last: Callable[[bool], str] = lambda _: ""
    shortened: Shortened | None = None

    @property
    def layout(self) -> Layout:
        """How tables are laid out on this terminal; one that is asked for wide has no bound."""
        if self.view.is_wide or self.shortened is None:
            return Layout(0 if self.view.is_wide else self.width, self.is_colored)
        return Layout(self.width, self.is_colored, self.shortened)


@contextmanager
def open_output(output: Output) -> Iterator[TextIO]:
    """Open where the result goes; a file appears whole, when all is written, or not at all."""
    if output.target is None:
        yield output.stream
        return
    with open_replacement(output.target) as out:
        yield out
