"""A report as a table for people: as wide as the terminal, plain and uncut in a pipe.

Where a table is wider than the terminal, long addresses are shortened first, then what is spare is left out, from the
right on, and at last names and texts go over lines: nothing is cut, and no figure is left out.
"""

from __future__ import annotations

import re
import textwrap
from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass
from itertools import zip_longest

from wcwidth import wcswidth

from neatledger.core.space.sizes import show_share, show_size
from neatledger.core.tree.address import Address
from neatledger.counting import count_of
from neatledger.formats.names import show_address, show_bytes, show_text
from neatledger.reports.report import SECTION, Cell, Column, MachineNote, Pointer, Portion, Report, Row, Show, Size

__all__ = ["Layout", "Shortened", "render_table", "show_cell"]

_TEXT, _LEAST_TEXT, _NAME, _NARROW_TEXT = 24, 18, 14, 12  # how narrow a column may become
_LONG_NAME = 30
_LONG_ADDRESS = 28
_GAP = 2
_LEAST = 6
_COMMANDS_AT = 50
"""Where the commands of pointers begin, if what they give is not longer."""
_MARGIN = 80
"""Where commands beside headings end, however wide the terminal is."""
_BREAKS, _BREAKS_KEPT = re.compile(r"\s+|(?<=/)(?=\S)"), re.compile(r"(\s+|(?<=/)(?=\S))")

Shortened = Callable[[Iterable[Address]], Mapping[Address, str]]


"""What gives addresses their short form."""


def _whole(addresses: Iterable[Address]) -> Mapping[Address, str]:
    return {address: show_address(address) for address in addresses}


@dataclass(frozen=True, slots=True)
class Layout:
    """How a table is laid out: the terminal's width in cells (0: no limit), in colour or not, and short addresses."""

    width: int = 0
    is_colored: bool = False
    shortened: Shortened = _whole


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


def render_table(report: Report, layout: Layout) -> str:
    """Return the report as text."""
    width = layout.width
    lines = _over_lines(report.headline, width) if report.headline else []
    if report.lead:
        lines += ["", *(line for text in report.lead for line in _over_lines(text, width) or [""])]
    notes = [note for note in report.notes if not isinstance(note, MachineNote)]
    left_out = 0
    if report.shown:
        rows, left_out = _render_rows(report, layout)
        lines += ["", *rows]
    elif report.empty:
        lines += ["", *_over_lines(f"  {report.empty}", width)]
    if left_out:
        notes.append(f"{count_of(left_out, 'column')} more: -w")
    feet = [line for note in notes for line in _over_lines(note, width)] + _pointer_lines(report.pointers, width)
    if feet:
        lines += ["", *feet]
    if report.last:
        has_sections = any(SECTION in row for row in report.shown)
        lines += [*([] if feet or has_sections else [""]), *_over_lines(report.last, width)]
    return "\n".join(lines).removeprefix("\n") + "\n"


def _over_lines(text: str, width: int) -> list[str]:
    """Return a sentence as lines of a width (0: one line), those after the first as far in as it is."""
    shown = show_text(text)
    if not width or _wide(shown) <= width:
        return [shown]
    # What is numbered goes on below its text, not below its number.
    number = re.match(r" *(\d+(\. +| {2,}))?", shown)
    margin = " " * (number.end() if number else 0)
    return textwrap.wrap(shown, width, subsequent_indent=margin, break_on_hyphens=False)


def _pointer_lines(pointers: Sequence[Pointer], width: int) -> list[str]:
    """Return what can be had next, and at what point of its line the command stands."""
    if not pointers:
        return []
    longest = max(_wide(one.command) for one in pointers)
    start = max(_wide(one.what) for one in pointers) + _GAP
    at = max(start, min(_COMMANDS_AT, width - longest)) if width else max(start, _COMMANDS_AT)
    lines = []
    for one in pointers:
        what, command = show_text(one.what), show_text(one.command)
        if width and at + _wide(command) > width:
            # Neither is cut: the command stands on the next line then.
            lines += [*_over_lines(what, width), (" " * max(0, width - _wide(command))) + command]
        else:
            lines.append(what + " " * (at - _wide(what)) + command)
    return lines


# Columns -----------------------------------------------------------------------------------------------


def _render_rows(report: Report, layout: Layout) -> tuple[list[str], int]:
    """Return the lines of the table, and how many columns there was no room for."""
    width = layout.width
    rows = [row for row in report.shown if SECTION not in row]
    columns = [column for column in report.columns if column.show is not Show.MACHINE]
    texts = [[show_cell(row[column.key]) for column in columns] for row in rows]
    # What is empty in every row says nothing.
    columns, texts = _without(columns, texts, [n for n, _ in enumerate(columns) if not any(row[n] for row in texts)])
    left_out = 0
    if width and _natural(columns, texts) > width:
        texts = _shorten(rows, columns, texts, layout.shortened)
        while _needed(columns, texts) > width:
            spare = [number for number, column in enumerate(columns) if column.spare]
            if not spare:
                break
            left_out += columns[spare[-1]].show is not Show.PEOPLE
            columns, texts = _without(columns, texts, spare[-1:])
    widths = _fit(columns, texts, width) if width else _natural_widths(columns, texts)
    heads: list[list[str]] = [
        _Wrapper(width=max(1, wide), break_long_words=False).wrap(one.head)
        for one, wide in zip(columns, widths, strict=True)
    ]
    lines = []
    for words in zip_longest(*_at_foot(heads), fillvalue=""):
        head = _line(words, columns, widths)
        if head:
            lines.append(f"\x1b[1m{head}\x1b[0m" if layout.is_colored else head)
    below = iter(texts)
    for row in report.shown:
        if SECTION in row:
            lines += _section_lines(str(row[SECTION]), str(row["command"]), width, layout.is_colored)
            continue
        cells = [_part(text, column, wide) for text, column, wide in zip(next(below), columns, widths, strict=True)]
        for number, parts in enumerate(zip_longest(*cells, fillvalue="")):
            lines.append(_line(parts, columns, widths, layout.is_colored and not number))
    return lines, left_out


def _section_lines(text: str, command: str, width: int, is_colored: bool) -> list[str]:
    """Return a heading between rows, and at the right margin the command that shows more."""
    margin = min(width or _MARGIN, _MARGIN)
    word, gap, rest = text.partition("  ")
    indent = len(word) + len(gap) + len(rest) - len(rest.lstrip()) if rest else 0
    lines = textwrap.wrap(text, margin - _wide(command) - _GAP, subsequent_indent=" " * indent) or [""]
    lines[0] += (" " * (margin - _wide(lines[0]) - _wide(command)) + command) if command else ""
    return [f"\x1b[1m{line}\x1b[0m" if is_colored and line else line for line in lines]


def _without(
    columns: list[Column], texts: list[list[str]], left_out: Sequence[int]
) -> tuple[list[Column], list[list[str]]]:
    kept = [number for number, _ in enumerate(columns) if number not in left_out]
    return [columns[number] for number in kept], [[row[number] for number in kept] for row in texts]


def _shorten(
    rows: Sequence[Row], columns: Sequence[Column], texts: Sequence[Sequence[str]], shortened: Shortened
) -> list[list[str]]:
    """Return the texts with long addresses in their short form, where that is shorter."""
    long = {
        cell for row in rows for column in columns
        if isinstance(cell := row[column.key], Address) and _wide(show_address(cell)) > _LONG_ADDRESS
    }  # fmt: skip
    short = shortened(long)

    def text_of(cell: Cell, text: str) -> str:
        return short[cell] if isinstance(cell, Address) and _wide(short.get(cell, text)) < _wide(text) else text

    return [
        [text_of(row[column.key], text) for column, text in zip(columns, line, strict=True)]
        for row, line in zip(rows, texts, strict=True)
    ]


def _natural_widths(columns: Sequence[Column], texts: Sequence[Sequence[str]]) -> list[int]:
    return [max([_wide(column.head), *(_wide(row[place]) for row in texts)]) for place, column in enumerate(columns)]


def _natural(columns: Sequence[Column], texts: Sequence[Sequence[str]]) -> int:
    """Return how wide the table is when nothing gives way."""
    return _joined(_natural_widths(columns, texts))


def _joined(widths: Sequence[int]) -> int:
    """Return how wide a line of columns is, the gaps between them included."""
    return sum(widths) + _GAP * (len(widths) - 1)


def _needed(columns: Sequence[Column], texts: Sequence[Sequence[str]]) -> int:
    """Return how wide the table must be to read well: headings and texts over lines, names whole."""
    widths = []
    for place, column in enumerate(columns):
        natural = max((_wide(row[place]) for row in texts), default=0)
        least = _TEXT if column.wraps else _LONG_NAME if column.cuts else natural
        widths.append(max(_longest_word(column.head), min(natural, least)))
    return _joined(widths)


def _fit(columns: list[Column], texts: list[list[str]], width: int) -> list[int]:
    """Return the columns' widths: natural ones where all fits, else the widest that may go over lines give way."""
    widths = _natural_widths(columns, texts)
    if _joined(widths) > width:
        # Headings go over lines before anything else gives way.
        widths = [
            max([_longest_word(column.head), *(_wide(row[place]) for row in texts)])
            for place, column in enumerate(columns)
        ]
    spare = _joined(widths) - width
    # Texts give way first and keep a third of the width where long names can spare it; then names, at their slashes
    # and spaces; then texts once more; at last whatever is no figure.
    wrapped = [place for place, column in enumerate(columns) if column.wraps]
    named = [place for place, column in enumerate(columns) if column.cuts]
    others = [place for place, column in enumerate(columns) if not (column.cuts or column.wraps or column.number)]
    words = [max((_longest_word(row[place]) for row in texts), default=0) for place in range(len(columns))]
    for places, least, is_at_words in (
        (wrapped, max(_TEXT, width // 3), False),
        (named, _LONG_NAME, True),
        (wrapped, _TEXT, False),
        (wrapped, _LEAST_TEXT, True),
        (named, _NAME, True),
        (wrapped, _NARROW_TEXT, True),
        (others, _NARROW_TEXT, True),
        (others, 0, True),
        (wrapped, _NARROW_TEXT, False),
        (named, _NAME, False),
        ([*wrapped, *others, *named], _LEAST, False),
    ):
        while spare > 0:
            # No column is narrower than the longest word of its heading.
            floors = {
                place: max(least, _longest_word(columns[place].head), words[place] if is_at_words else 0)
                for place in places
            }
            wide = [place for place, floor in floors.items() if widths[place] > floor]
            if not wide:
                break
            widths[max(wide, key=lambda place: widths[place])] -= 1
            spare -= 1
    return widths


def _at_foot(heads: Sequence[list[str]]) -> list[list[str]]:
    """Return headings of one and more lines, those of fewer beside the last lines of the others."""
    most = max(map(len, heads), default=0)
    return [[""] * (most - len(one)) + one for one in heads]


# Cells -------------------------------------------------------------------------------------------------


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
