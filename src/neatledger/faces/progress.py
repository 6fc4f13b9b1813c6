"""Progress of long work: one line on a terminal that is renewed; nothing in a pipe."""

from __future__ import annotations

import time
from types import TracebackType
from typing import Self, TextIO

__all__ = ["Progress"]

_EVERY_SECONDS = 0.2


class Progress:
    """Counts entries and shows how many there are and how fast they come."""

    def __init__(self, out: TextIO, label: str, *, quiet: bool) -> None:
        self._out = out
        self._label = label
        self._shows = not quiet and out.isatty()
        self._started = self._told = time.monotonic()
        self.entries = 0

    def __enter__(self) -> Self:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, at: TracebackType | None
    ) -> None:
        if self._shows:
            print("\r\x1b[K", end="", file=self._out, flush=True)

    @property
    def seconds(self) -> float:
        """Seconds since the work began."""
        return time.monotonic() - self._started

    def __call__(self, entries: int) -> None:
        """Note that so many more entries were read."""
        self.entries += entries
        now = time.monotonic()
        if self._shows and now - self._told > _EVERY_SECONDS:
            self._told = now
            rate = self.entries / max(self.seconds, 1e-9)
            text = f"{self._label}: {self.entries:,} entries, {rate:,.0f} a second"
            print(f"\r{text}\x1b[K", end="", file=self._out, flush=True)

    def tell(self, text: str) -> None:
        """Say what is being waited for."""
        if self._shows:
            self._told = time.monotonic()
            print(f"\r{self._label}: {text}\x1b[K", end="", file=self._out, flush=True)
