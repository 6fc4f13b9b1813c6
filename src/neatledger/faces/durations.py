"""How long work took the last time, office by office, in a cache: it tells how long it takes still."""

from __future__ import annotations

import json
import os
from collections.abc import Mapping
from contextlib import suppress
from hashlib import sha256
from pathlib import Path

__all__ = ["Durations"]

_LEAST_SECONDS = 2.0
"""What takes less is not waited for, and not kept."""


class Durations:
    """The last durations of one office, in seconds, by what was done; nothing but figures is kept."""

    def __init__(self, env: Mapping[str, str], office: Path) -> None:
        """Keep them in the folder for caches (XDG base directory specification), under no name of the office."""
        home = env.get("XDG_CACHE_HOME") or os.path.join(env.get("HOME", ""), ".cache")
        self._file = (
            Path(home) / "neatledger" / f"{sha256(os.fsencode(os.path.abspath(office))).hexdigest()[:16]}.json"
        )

    def last(self, label: str) -> float:
        """Return how long something took the last time; 0 where that is not known."""
        found = self._read().get(label)
        return found if found is not None and found >= _LEAST_SECONDS else 0.0

    def keep(self, label: str, seconds: float) -> None:
        """Keep how long something took; where nothing can be kept, nothing is."""
        if seconds < _LEAST_SECONDS:
            return
        with suppress(OSError):
            self._file.parent.mkdir(parents=True, exist_ok=True)
            part = self._file.with_suffix(f".{os.getpid()}")
            part.write_text(json.dumps({**self._read(), label: round(seconds, 1)}), "utf-8")
            part.replace(self._file)

    def _read(self) -> dict[str, float]:
        try:
            found = json.loads(self._file.read_text("utf-8"))
        except (OSError, ValueError):
            return {}
        if not isinstance(found, dict):
            return {}
        return {label: float(seconds) for label, seconds in found.items() if isinstance(seconds, int | float)}
