"""How far long work is: whoever does it says so, and whoever shows it listens. Nobody has to."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from contextvars import ContextVar
from typing import TypeVar

__all__ = ["listening", "paced"]

Listener = Callable[[int, int], None]
Item = TypeVar("Item")
_listener: ContextVar[Listener | None] = ContextVar("listener", default=None)


@contextmanager
def listening(listener: Listener) -> Iterator[None]:
    """Have `listener` told how many parts of how many are done, while this lasts."""
    before = _listener.set(listener)
    try:
        yield
    finally:
        _listener.reset(before)


def paced(parts: Sequence[Item]) -> Iterator[Item]:
    """Yield the parts of some work, and tell after each how many are done; parts within parts tell nothing."""
    listener = _listener.get()
    if listener is None:
        yield from parts
        return
    before = _listener.set(None)
    try:
        for done, part in enumerate(parts):
            listener(done, len(parts))
            yield part
    finally:
        _listener.reset(before)
