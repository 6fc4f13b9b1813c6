"""Progress of long work: one line on a terminal that is renewed; nothing in a pipe.

What takes longer than two seconds says so by itself: for how long already, and about how long still, by how far it is
or by how long it took the last time.
"""

from __future__ import annotations

import threading
import time
from types import TracebackType
from typing import TYPE_CHECKING, Self, TextIO

if TYPE_CHECKING:
    from neatledger.faces.durations import Durations

__all__ = ["Progress", "Waits"]

_EVERY_SECONDS = 0.2
_AFTER_SECONDS = 2.0
"""From when on waiting is worth a word."""


class Waits:
    """What is being waited for, one within the other: the innermost has the line."""

    def __init__(self, out: TextIO, durations: Durations | None = None, *, quiet: bool) -> None:
        self.out = out
        self.durations = durations
        self.shows = not quiet and out.isatty()
        self.open: list[Progress] = []
        self.lock = threading.Lock()
        self.is_written = False
        """Whether the line is there."""
        self.is_held = False
        """Whether the terminal belongs to something else for now: an answer, or a question."""

    def hold(self) -> None:
        """Leave the terminal alone from here on, until something new is begun."""
        self.clear()
        self.is_held = True

    def clear(self) -> None:
        """Take the line away, for something else to be said; it comes back."""
        with self.lock:
            if self.is_written:
                print("\r\x1b[K", end="", file=self.out, flush=True)
                self.is_written = False


class Progress:
    """Counts entries and shows how many there are and how fast they come; of what counts none, how long it takes."""

    def __init__(self, waits: Waits, label: str) -> None:
        self._waits = waits
        self._label = label
        self._started = self._told = time.monotonic()
        self._last = 0.0
        self._part: tuple[int, int] | None = None
        self._ended = threading.Event()
        self.entries = 0

    def __enter__(self) -> Self:
        if self._waits.shows:
            self._last = self._waits.durations.last(self._label) if self._waits.durations else 0.0
            with self._waits.lock:
                self._waits.open.append(self)
                self._waits.is_held = False
            threading.Thread(target=self._tick, daemon=True).start()
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, at: TracebackType | None
    ) -> None:
        self._ended.set()
        if self._waits.shows:
            self._waits.clear()
            with self._waits.lock:
                self._waits.open.remove(self)
            if error is None and self._waits.durations is not None:
                self._waits.durations.keep(self._label, self.seconds)

    @property
    def seconds(self) -> float:
        """Seconds since the work began."""
        return time.monotonic() - self._started

    def __call__(self, entries: int) -> None:
        """Note that so many more entries were read."""
        self.entries += entries
        if time.monotonic() - self._told > _EVERY_SECONDS:
            rate = self.entries / max(self.seconds, 1e-9)
            self.tell(f"{self.entries:,} entries, {rate:,.0f} a second{self._left()}")

    def part(self, done: int, total: int) -> None:
        """Note how many parts of the work are done."""
        self._part = done, total

    def tell(self, text: str) -> None:
        """Say what is being waited for."""
        if self._waits.shows:
            with self._waits.lock:
                self._show(text)

    def _show(self, text: str) -> None:
        self._told = time.monotonic()
        if not self._waits.is_held and self._waits.open[-1:] == [self]:
            print(f"\r{self._label}: {text}\x1b[K", end="", file=self._waits.out, flush=True)
            self._waits.is_written = True

    def _tick(self) -> None:
        """Say how long it takes, whenever nothing else was said for a while."""
        while not self._ended.wait(_AFTER_SECONDS / 4):
            with self._waits.lock:
                is_silent = time.monotonic() - self._told >= _AFTER_SECONDS / 2
                if not self._ended.is_set() and is_silent and self.seconds >= _AFTER_SECONDS:
                    of = f"{self._part[0]} of {self._part[1]} done, " if self._part else ""
                    self._show(f"{of}{_seconds(self.seconds)}{self._left()}")

    def _left(self) -> str:
        """Say how long it takes still: by how long it took the last time, else by how much of it is done."""
        if self._last:
            left = self._last - self.seconds
            return (
                f", about {_seconds(left)} left" if left > 0 else f", longer than last time ({_seconds(self._last)})"
            )
        if self._part and self._part[0]:
            done, total = self._part
            return f", about {_seconds(self.seconds / done * (total - done))} left"
        return ""


def _seconds(seconds: float) -> str:
    whole = max(1, round(seconds))
    return f"{whole} s" if whole < 120 else f"{whole // 60} min"
