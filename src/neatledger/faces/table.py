"""A report as a table for people: as wide as the terminal, plain and uncut in a pipe."""

from __future__ import annotations

import re
import textwrap
from collections.abc import Sequence
from itertools import zip_longest

from wcwidth import wcswidth

from neatledger.core.space.sizes import show_share, show_size
from neatledger.core.tree.address import Address
from neatledger.formats.names import show_address, show_bytes, show_text
from neatledger.reports.report import Cell, Column, MachineNote, Portion, Report, Show, Size

__all__ = ["render_table", "show_cell"]

_TEXT, _NAME, _NARROW_TEXT = 24, 14, 12  # how narrow a column may become
_LONG_NAME = 30
_GAP = 2
_LEAST = 6
_PLAIN = 100_000
_BREAKS, _BREAKS_KEPT = re.compile(r"\s+|(?<=/)(?=\S)"), re.compile(r"(\s+|(?<=/)(?=\S))")


def show_cell(cell: Cell) -> str:
    """Return a cell as people read it."""
    match cell:
        case str():
            return show_text(cell)
        case None:
            return "?"
        case bool():
            return "yes" if cell else "-"
        case Size():
            return show_size(cell, binary=cell.is_binary)
        case int():
            return f"{cell:,}"
        case bytes():
            return show_bytes(cell)
        case Address():
            return show_address(cell)
        case tuple():
            return show_text(", ".join(cell))
        case Portion():
            return show_share(cell.part, cell.whole)


def _fit(columns: list[Column], texts: list[list[str]], width: int) -> list[int]:
    """Return the columns' widths: natural ones where all fits, else the widest that may be cut give way."""
    widths = [
        max([_wide(column.head), *(_wide(row[place]) for row in texts)]) for place, column in enumerate(columns)
    ]
    if sum(widths) + _GAP * (len(widths) - 1) > width:
        # Headings go over lines before anything else gives way.
        widths = [
            max([_longest_word(column.head), *(_wide(row[place]) for row in texts)])
            for place, column in enumerate(columns)
        ]
    spare = sum(widths) + _GAP * (len(widths) - 1) - width
    # Text that may go over lines gives way first, for nothing of it is lost, and keeps a third of the width where
    # long names can spare it; then names, which stay whole all the same and take a line; then text once more.
    wrapped = [place for place, column in enumerate(columns) if column.wraps]
    named = [place for place, column in enumerate(columns) if column.cuts]
    # At last any text goes over lines, first at its words: nothing is wider than the terminal.
    others = [place for place, column in enumerate(columns) if not (column.cuts or column.wraps or column.number)]
    words = {place: max((_longest_word(row[place]) for row in texts), default=0) for place in others}
    for places, least, is_at_words in (
        (wrapped, max(_TEXT, width // 3), False),
        (named, _LONG_NAME, False),
        (wrapped, _TEXT, False),
        (named, _NAME, False),
        (wrapped, _NARROW_TEXT, False),
        (others, _NARROW_TEXT, True),
        (named[:1], 0, False),
        (named, 0, False),
        (others, 0, True),
        ([*wrapped, *others], _LEAST, False),
    ):
        while spare > 0:
            # No column is narrower than the longest word of its heading.
            floors = {
                place: max(least, _longest_word(columns[place].head), words.get(place, 0) if is_at_words else 0)
                for place in places
            }
            wide = [place for place, floor in floors.items() if widths[place] > floor]
            if not wide:
                break
            widths[max(wide, key=lambda place: widths[place])] -= 1
            spare -= 1
    return widths


def render_table(report: Report, width: int, is_colored: bool) -> str:
    """Return the report as text; `width` in terminal cells, 0 for no limit."""
    lines = _over_lines(report.headline, width) if report.headline else []
    if report.shown:
        lines += ["", _render_rows(report, width, is_colored)]
    elif report.empty:
        lines += ["", f"  {report.empty}"]
    notes = [note for note in report.notes if not isinstance(note, MachineNote)]
    if notes:
        lines += ["", *(line for note in notes for line in _over_lines(note, width))]
    return "\n".join(lines).removeprefix("\n") + "\n"


def _over_lines(text: str, width: int) -> list[str]:
    """Return a sentence as lines of a width (0: one line), those after the first as far in as it is, and two more."""
    shown = show_text(text)
    if not width or _wide(shown) <= width:
        return [shown]
    margin = " " * (len(shown) - len(shown.lstrip()))
    rest = margin + "  "
    return textwrap.wrap(shown.strip(), width, initial_indent=margin, subsequent_indent=rest, break_on_hyphens=False)


def _render_rows(report: Report, width: int, is_colored: bool) -> str:
    columns = [column for column in report.columns if column.show is not Show.MACHINE]
    texts = [[show_cell(row[column.key]) for column in columns] for row in report.shown]
    if width and _natural(columns, texts) > width:
        # What is empty says nothing, and what is spare can be left out.
        kept = [
            number for number, column in enumerate(columns)
            if not column.spare and any(row[number] for row in texts)
        ]  # fmt: skip
        columns, texts = [columns[number] for number in kept], [[row[number] for number in kept] for row in texts]
    widths = _fit(columns, texts, width or _PLAIN)
    heads = [
        _Wrapper(width=max(1, wide), break_long_words=False).wrap(one.head)
        for one, wide in zip(columns, widths, strict=True)
    ]
    lines = []
    for words in zip_longest(*_at_foot(heads), fillvalue=""):
        head = _line(words, columns, widths)
        lines.append(f"\x1b[1m{head}\x1b[0m" if is_colored else head)
    for row in texts:
        lines += _row_lines(row, columns, widths, width, is_colored)
    return "\n".join(lines)


def _at_foot(heads: Sequence[list[str]]) -> list[list[str]]:
    """Return headings of one and more lines, those of fewer beside the last lines of the others."""
    most = max(map(len, heads), default=0)
    return [[""] * (most - len(one)) + one for one in heads]


def _row_lines(
    row: Sequence[str], columns: Sequence[Column], widths: Sequence[int], width: int, is_colored: bool
) -> list[str]:
    """Return the lines of a row. A name that is too long for its column stays whole: the rest follows below it."""
    lines: list[str] = []
    cells: list[list[str]] = [[] for _ in columns]
    first = next((number for number, column in enumerate(columns) if column.cuts), 0)

    def end() -> None:
        for texts in zip_longest(*cells, fillvalue=""):
            lines.append(_line(texts, columns, widths, is_colored and not lines))
        for one in cells:
            one.clear()

    for number, (text, column, wide) in enumerate(zip(row, columns, widths, strict=True)):
        if not column.cuts or column.wraps or _wide(text) <= wide or (number > first and _may_wrap(text, wide)):
            cells[number] += _part(text, column, wide)
            continue
        start = sum(widths[:number]) + _GAP * number
        is_first = len(lines)
        if any(cells):
            end()
        # Beside what stands before it, where there is room, else on a line of its own.
        before = lines[is_first] if len(lines) > is_first else ""
        if (
            before
            and _wide(_plain_text(before)) < start
            and start + _wide(text) <= width
            and len(lines) == is_first + 1
        ):
            lines[is_first] = (before + " " * (start - _wide(_plain_text(before))) + text).rstrip()
        else:
            lines.append((" " * max(0, min(start, width - _wide(text))) + text).rstrip())
    if any(cells):
        end()
    return lines


def _plain_text(line: str) -> str:
    return _STYLE.sub("", line)


def _natural(columns: Sequence[Column], texts: list[list[str]]) -> int:
    """Return how wide the table is when nothing gives way."""
    heads = [column.head for column in columns]
    widths = [max(_wide(cell) for cell in column) for column in zip(heads, *texts, strict=True)]
    return sum(widths) + _GAP * (len(widths) - 1)


def _wide(text: str) -> int:
    """Return how many cells of a terminal a text takes."""
    return len(text) if text.isascii() else max(wcswidth(text), 0)


def _part(text: str, column: Column, width: int) -> list[str]:
    """Return the lines that a cell takes."""
    if (len(text) <= width and text.isascii()) or _wide(text) <= width:
        return [text]
    return [text] if column.number else _wrapped(text, max(1, width))


def _longest_word(text: str) -> int:
    """Return how wide the longest part is that goes over no line: a word, or a name of a path."""
    return max((_wide(word) for word in _BREAKS.split(text)), default=0)


def _may_wrap(text: str, width: int) -> bool:
    """Tell whether a name may go over lines: one of several words, each of which fits; never an address."""
    return ":/" not in text and all(_wide(word) <= width for word in text.split())


def _wrapped(text: str, width: int) -> list[str]:
    """Return a text as lines of so many cells of a terminal, at its words, or within one that is longer."""
    if text.isascii():
        return _Wrapper(width=width, break_on_hyphens=False).wrap(text)
    lines = [""]
    for chunk in _BREAKS_KEPT.split(text):
        if lines[-1] and _wide(lines[-1] + chunk.rstrip()) > width:
            lines[-1] = lines[-1].rstrip()
            lines.append("")
        for letter in chunk if lines[-1] or not chunk.isspace() else "":
            if _wide(lines[-1] + letter) > width and lines[-1] and not letter.isspace():
                lines.append("")
            lines[-1] += letter
    return [line.rstrip() for line in lines]


class _Wrapper(textwrap.TextWrapper):
    """Wraps texts so that a path goes over lines after a slash, and not within a name."""

    def _split(self, text: str) -> list[str]:
        return [chunk for chunk in _BREAKS_KEPT.split(text) if chunk]


def _line(cells: Sequence[str], columns: Sequence[Column], widths: Sequence[int], is_colored: bool = False) -> str:
    padded = []
    for cell, column, width in zip(cells, columns, widths, strict=True):
        room = " " * (width - _wide(cell))
        shown = _with_weight(cell) if is_colored else cell
        padded.append(room + shown if column.number else shown + room)
    return (" " * _GAP).join(padded).rstrip()


# Told apart by weight first; the colour is one that all see, and each says no more than its word.
_GRAVE, _WARM, _QUIET = "\x1b[1;35m", "\x1b[35m", "\x1b[2m"
_WEIGHTS = {
    _GRAVE: ("high", "over", "full", "left, still open", "not in order", "unprotected"),
    _WARM: ("medium", "past", "weaker"),
    _QUIET: ("advice", "fine", "in order", "none", "no limit", "nothing"),
}
# "nothing" begins many a sentence that is not quiet at all.
_WORD = re.compile(
    rf"(?!nothing )(?:{'|'.join(re.escape(word) for some in _WEIGHTS.values() for word in some)})(?=[:,; ]|$)"
)
_STYLE = re.compile(r"\x1b\[[0-9;]*m")


def _with_weight(cell: str) -> str:
    """Return a cell with the weight of the word that it begins with, where that is one that says how grave it is."""
    found = _WORD.match(cell)
    if found is None:
        return cell
    word = found[0]
    style = next(style for style, words in _WEIGHTS.items() if word in words)
    return f"{style}{word}\x1b[0m{cell[len(word) :]}"
