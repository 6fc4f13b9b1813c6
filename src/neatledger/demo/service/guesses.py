"""Wrong passwords: each makes the next try wait longer, so that guessing leads nowhere."""

from __future__ import annotations

import threading
import time

__all__ = ["Guesses"]

_FREE = 3  # wrong ones that cost nothing: people mistype
_FIRST, _LONGEST = 0.5, 60.0  # seconds
_MOST_NAMES = 10_000


class Guesses:
    """How often each name was tried with a wrong password of late, and from when on it may be tried again."""

    def __init__(self) -> None:
        self._lock = threading.Lock()
        self._wrong: dict[str, tuple[int, float]] = {}

    def wait_of(self, login: str) -> float:
        """Return for how many seconds nobody may try a name; the right password is not looked at before."""
        with self._lock:
            return max(0.0, self._wrong.get(login, (0, 0.0))[1] - time.monotonic())

    def note(self, login: str, *, is_right: bool) -> None:
        """Note what became of a try."""
        with self._lock:
            number, _ = self._wrong.pop(login, (0, 0.0))
            if is_right:
                return
            number += 1
            over = number - _FREE
            wait = min(_LONGEST, _FIRST * 2.0 ** min(over - 1, 16)) if over > 0 else 0.0
            self._wrong[login] = number, time.monotonic() + wait
            # Names come from whoever asks: the oldest make room.
            while len(self._wrong) > _MOST_NAMES:
                self._wrong.pop(next(iter(self._wrong)))
