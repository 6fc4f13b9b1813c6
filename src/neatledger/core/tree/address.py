"""Where a folder is: a system, and a path in it."""

from __future__ import annotations

from dataclasses import dataclass
from functools import lru_cache

__all__ = ["Address", "lies_within", "parts_of"]


@lru_cache(maxsize=65536)
def parts_of(path: bytes) -> tuple[bytes, ...]:
    """Return the names on the way down to a path."""
    return tuple(part for part in path.split(b"/") if part)


def lies_within(path: bytes, folder: bytes) -> bool:
    """Tell whether a path is that of a folder, or lies below it."""
    return path == folder or path.startswith(folder.rstrip(b"/") + b"/")


@dataclass(frozen=True, slots=True, order=True)
class Address:
    """Where a folder is: its system, and its path there (bytes, beginning with a slash)."""

    system: str
    path: bytes

    @property
    def parts(self) -> tuple[bytes, ...]:
        """The names on the way down from the root."""
        return parts_of(self.path)

    def is_within(self, other: Address) -> bool:
        """Tell whether this is `other` or lies below it."""
        return self.system == other.system and self.parts[: len(other.parts)] == other.parts

    def __str__(self) -> str:
        return f"{self.system}:{self.path.decode('utf-8', 'surrogateescape')}"
