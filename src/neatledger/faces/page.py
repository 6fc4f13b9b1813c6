"""A paper as one page of HTML that needs nothing else: figures inside, with their words; readable in print.

Tables can be sorted and searched where the browser runs scripts; without, all is there and in order. Nothing is
fetched: a policy in the page itself forbids it.
"""

from __future__ import annotations

from collections.abc import Sequence
from importlib import resources
from typing import TYPE_CHECKING, Any

from neatledger.core.tree.address import Address
from neatledger.faces.figures import NARROW, Drawn, draw_growth, draw_lines, draw_use
from neatledger.faces.table import show_cell
from neatledger.reports.forecast import Growth
from neatledger.reports.paper import LETTERS, Grid, Lines, Paper, Part, Use
from neatledger.reports.report import SECTION, Aside, Cell, Column, MachineNote, Portion, Report, Row, Show, count_of

if TYPE_CHECKING:
    from markupsafe import Markup

__all__ = ["draw", "render_page"]

_MOST_ROWS = 2_000
_SHADES = {letter: f"s{number}" for number, letter in enumerate(LETTERS.values())}


_MOST_DRAWN = 64
_drawn: dict[int, tuple[Growth | Use | Lines, Drawn]] = {}


def draw(figure: Growth | Use | Lines) -> Drawn:
    """Draw a figure of a paper, so wide that two or three stand side by side; once for the page and the workbook."""
    known = _drawn.get(id(figure))
    if known is None:
        if len(_drawn) >= _MOST_DRAWN:
            _drawn.clear()
        # With what it is of, so that nothing else comes to have its number.
        known = _drawn[id(figure)] = figure, _draw(figure)
    return known[1]


def _draw(figure: Growth | Use | Lines) -> Drawn:
    match figure:
        case Growth():
            return draw_growth(figure, NARROW)
        case Lines():
            return draw_lines(figure, NARROW)
        case Use():
            return draw_use(figure.name, figure.by, figure.shares, NARROW)


def _sort(column: Column) -> str:
    """Return the class of a column's cells: numbers, words that stay on a line, and what may go over lines."""
    return "n" if column.number else "" if column.wraps or column.cuts else "k"


def _share(row: Row, cell: Cell) -> int | None:
    """Return how much of a bar is filled, in percent; None where there is nothing to draw."""
    portion = cell if isinstance(cell, Portion) else row.get("percent")
    return min(100, portion.percent) if isinstance(portion, Portion) and portion.percent >= 0 else None


def _cell(row: Row, column: Column) -> dict[str, Any]:
    cell = row[column.key]
    if column.key == "bar":
        return {"share": _share(row, cell), "text": "", "sort": "b", "value": None}
    value = cell.percent if isinstance(cell, Portion) else int(cell) if isinstance(cell, int) else None
    sort = "a" if isinstance(cell, Address) else _sort(column)
    return {"text": _breakable(show_cell(cell)), "sort": sort, "value": value, "share": None}


def _breakable(text: str) -> Markup:
    """Return a text that a browser may break after a slash, and copies as it is."""
    from markupsafe import Markup, escape

    return Markup(str(escape(text)).replace("/", "/<wbr>"))


def _part(number: int, part: Part) -> dict[str, Any]:
    report = part.report
    columns = [column for column in report.columns if column.show is not Show.MACHINE and _is_told(report, column)]
    drawn = [draw(figure) for figure in part.figures]
    return {
        "id": f"part-{number}",
        "title": part.title,
        "headline": report.headline,
        "columns": [{"head": "" if one.key == "bar" else one.head, "sort": _sort(one)} for one in columns],
        "rows": [[_cell(row, column) for column in columns] for row in _rows(report)],
        "notes": [*_left_out(report), *(note for note in report.notes if not isinstance(note, MachineNote | Aside))],
        "empty": report.empty if part.grid is None else "",
        "figures": [{"data": each.as_data(), "words": each.words} for each in drawn],
        "grid": _grid(part.grid) if part.grid is not None else None,
    }


def _rows(report: Report) -> list[Row]:
    return [row for row in report.shown if SECTION not in row][:_MOST_ROWS]


def _left_out(report: Report) -> list[str]:
    more = len(report.shown) - _MOST_ROWS
    return [f"{count_of(more, 'row')} more are left out of this page; a workbook has them all."] if more > 0 else []


def _is_told(report: Report, column: Column) -> bool:
    """Tell whether a column has anything to show: one that is empty in every row takes room and says nothing."""
    return column.key == "bar" or any(show_cell(row[column.key]) for row in _rows(report))


def _grid(grid: Grid) -> dict[str, Any]:
    rows = [
        {
            "name": _breakable(show_cell(row)),
            "cells": [{"text": text, "shade": _SHADES.get(text.rpartition("→")[2], "s0")} for text in cells],
        }
        for row, cells in zip(grid.rows, grid.cells, strict=True)
    ]
    return {"columns": [show_cell(name) for name in grid.columns], "rows": rows}


def render_page(paper: Paper) -> str:
    """Return the page; what comes from outside is escaped."""
    from jinja2 import Environment
    from markupsafe import Markup

    here = resources.files("neatledger.faces")
    template = Environment(autoescape=True, trim_blocks=True).from_string(
        here.joinpath("page.html").read_text("utf-8")
    )
    parts: Sequence[dict[str, Any]] = [_part(number, part) for number, part in enumerate(paper.parts, start=1)]
    script, style = (Markup(here.joinpath(f"page.{kind}").read_text("utf-8")) for kind in ("js", "css"))
    return template.render(paper=paper, parts=parts, script=script, style=style)
