"""Figures: growth with its interval, limits and dates; and what uses the space. Legible in grey, with words beside.

Every figure carries its words as the alternative text: in a page, and in the description of the file itself.
"""

from __future__ import annotations

import base64
import io
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import date
from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING, Any

from neatledger.core.space.sizes import show_size
from neatledger.errors import NeatError, UsageError
from neatledger.reports.forecast import Growth
from neatledger.reports.paper import Lines

if TYPE_CHECKING:
    from matplotlib.figure import Figure

__all__ = ["Drawn", "draw_growth", "draw_lines", "draw_use", "save_figure"]

_SUFFIXES = (".png", ".svg", ".pdf")
_GREY, _DARK, _LIGHT = "0.35", "0.1", "0.8"
_MOST_BARS = 12
WIDE, NARROW = 9.0, 5.2
"""How wide a figure is, in inches: by itself, and where several stand side by side."""


@dataclass(frozen=True)
class Drawn:
    """A figure and what it says in words."""

    figure: Figure
    words: str

    @cached_property
    def png(self) -> bytes:
        """The figure as a PNG; drawing takes longer than all else in a paper."""
        out = io.BytesIO()
        self.figure.savefig(out, format="png", dpi=144, metadata={"Description": self.words, "Software": None})
        return out.getvalue()

    def as_data(self) -> str:
        """Return the figure as an address that holds it, for a page of one file."""
        return "data:image/png;base64," + base64.b64encode(self.png).decode()


def _axes(height: float, width: float = WIDE) -> tuple[Figure, Any]:
    from matplotlib.figure import Figure

    figure = Figure(figsize=(width, height), layout="constrained")
    axes = figure.add_subplot()
    for side in ("top", "right"):
        axes.spines[side].set_visible(False)
    return figure, axes


def _show_bytes(value: float, _position: object) -> str:
    return show_size(round(value))


def draw_growth(growth: Growth, width: float = WIDE) -> Drawn:
    """Draw what was used at each count, where it goes, and the levels that it meets."""
    figure, axes = _axes(4.6 if width == WIDE else 3.2, width)
    days = [day for day, _ in growth.history]
    axes.plot(days, [used for _, used in growth.history], color=_DARK, marker="o", markersize=3, linewidth=1.2)
    if growth.ahead:
        ahead = [day for day, *_ in growth.ahead]
        axes.plot(ahead, [middle for _, middle, _, _ in growth.ahead], color=_DARK, linestyle="--", linewidth=1.2)
        low, high = [low for _, _, low, _ in growth.ahead], [high for *_, high in growth.ahead]
        axes.fill_between(ahead, low, high, color=_LIGHT, linewidth=0)
    for number, (name, level) in enumerate(growth.levels):
        # Levels are told apart by their dashes and their words, not by colour; the limit is the whole line.
        is_limit = number == len(growth.levels) - 1
        axes.axhline(
            level, color=_GREY, linewidth=1.4 if is_limit else 0.9, linestyle="-" if is_limit else (0, (5, 3))
        )
        # Above its line the limit's words, below theirs those of the warnings, which may lie close under it.
        lift = 3 if is_limit else -9
        axes.annotate(name, (days[0], level), xytext=(0, lift), textcoords="offset points", fontsize=8)
    # Room above the highest, so that its words do not lie on the title.
    bottom, top = axes.get_ylim()
    axes.set_ylim(bottom, top + (top - bottom) * 0.08)
    for number, (day, text) in enumerate(growth.breaks):
        axes.axvline(day, color=_GREY, linewidth=0.8, linestyle=":")
        axes.annotate(text, (day, bottom), xytext=(3, 4 + 11 * (number % 3)), textcoords="offset points", fontsize=8)
    title = f"{growth.name}: growth, and when levels are met" if width == WIDE else growth.name
    axes.set_title(title, loc="left", fontsize=11)
    axes.yaxis.set_major_formatter(_show_bytes)
    axes.grid(axis="y", color="0.9", linewidth=0.6)
    axes.tick_params(labelsize=8)
    return Drawn(figure, growth.words)


def draw_lines(lines: Lines, width: float = WIDE) -> Drawn:
    """Draw numbers over time one above the other, each shade with its name at its end."""
    figure, axes = _axes(3.2, width)
    shades = [f"{0.25 + 0.6 * number / max(1, len(lines.series) - 1):.2f}" for number in range(len(lines.series))]
    values = [numbers for _, numbers in lines.series]
    axes.stackplot(lines.days, values, colors=shades, edgecolor="white", linewidth=0.8)
    below = 0
    for name, numbers in lines.series:
        last = numbers[-1]
        if last:
            axes.annotate(
                f"{name} {last:,}", (lines.days[-1], below + last / 2), xytext=(6, -3), textcoords="offset points",
                fontsize=8, annotation_clip=False,
            )  # fmt: skip
        below += last
    axes.set_ylim(bottom=0)
    axes.margins(x=0)
    axes.set_title(lines.name, loc="left", fontsize=11)
    axes.tick_params(labelsize=8)
    axes.grid(axis="y", color="0.9", linewidth=0.6)
    axes.xaxis.set_major_locator(_few_days(lines.days))
    first, last = (sum(numbers[at] for numbers in values) for at in (0, -1))
    told = ", ".join(f"{numbers[-1]:,} {name}" for name, numbers in lines.series)
    words = f"{lines.name}: {first:,} on {lines.days[0]}, {last:,} on {lines.days[-1]} ({told})."
    return Drawn(figure, words)


def _few_days(days: Sequence[date]) -> Any:
    from matplotlib.ticker import FixedLocator

    step = max(1, len(days) // 6)
    return FixedLocator([float(one.toordinal() - date(1970, 1, 1).toordinal()) for one in days[::step]])


def draw_use(name: str, by: str, shares: Sequence[tuple[str, int]], width: float = WIDE) -> Drawn:
    """Draw what uses the space: bars, the largest first, with their figures written out."""
    ordered = sorted((share for share in shares if share[1] > 0), key=lambda share: -share[1])
    shown, rest = list(ordered[:_MOST_BARS]), ordered[_MOST_BARS:]
    if rest:
        shown.append((f"{len(rest)} more", sum(size for _, size in rest)))
    figure, axes = _axes(1 + 0.3 * max(2, len(shown)), width)
    most = 40 if width == WIDE else 24
    labels = [each if len(each) <= most else f"{each[: most // 2 - 1]}…{each[-most // 2 :]}" for each, _ in shown]
    places = range(len(shown))
    bars = axes.barh(places, [size for _, size in shown], color="0.6", edgecolor=_DARK, linewidth=0.6)
    axes.set_yticks(places, labels)
    axes.bar_label(bars, [show_size(size) for _, size in shown], padding=3, fontsize=8)
    axes.invert_yaxis()
    axes.set_title(f"{name}: what uses the space, by {by}" if width == WIDE else name, loc="left", fontsize=11)
    axes.xaxis.set_major_formatter(_show_bytes)
    axes.margins(x=0.12)
    axes.tick_params(labelsize=8)
    message = "; ".join(f"{label} {show_size(size)}" for label, size in shown) or "nothing"
    return Drawn(figure, f"What uses the space of {name}, by {by}: {message}.")


def save_figure(drawn: Drawn, target: str) -> None:
    """Write a figure to a file, its form by the file's ending; raises `UsageError` or `NeatError`."""
    suffix = Path(target).suffix.lower()
    if suffix not in _SUFFIXES:
        raise UsageError(
            f"no figure can be written as {suffix or 'a file without an ending'}", target, "use .png, .svg or .pdf"
        )
    words = {"Description": drawn.words} if suffix != ".pdf" else {"Subject": drawn.words}
    try:
        drawn.figure.savefig(target, dpi=110, metadata=words)
    except OSError as error:
        raise NeatError(f"cannot write: {error.strerror}", target) from None
