"""Bars that read without colour, in a pipe and by ear: a figure in percent, and as many marks as it fills."""

from __future__ import annotations

__all__ = ["WIDTH", "bar"]

WIDTH = 10


def bar(part: float) -> str:
    """Return a bar for a part of one: ``#`` filled, ``.`` free; what goes beyond has ``>`` at its end."""
    if part > 1:
        return "#" * (WIDTH - 1) + ">"
    # The last mark is for what is really full, the first for anything at all.
    marks = WIDTH if part >= 1 else min(WIDTH - 1, max(1 if part > 0 else 0, round(part * WIDTH)))
    return "#" * marks + "." * (WIDTH - marks)
