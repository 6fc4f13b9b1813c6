"""A paper beside an older one: what is new, what is other than it was, and what is gone."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

from neatledger.core.tree.address import Address
from neatledger.faces.table import show_cell
from neatledger.formats.names import encode_address
from neatledger.reports.paper import Grid, Paper, Part
from neatledger.reports.report import Cell, Column, Report, Row, count_of

__all__ = ["beside_older"]

_CHANGED = Column("changed", "CHANGED", wraps=True)


def beside_older(paper: Paper, older: Paper, then: str) -> Paper:
    """Return a paper with what changed since an older one marked; `then` says of when that is.

    Parts are the same by their titles, rows by the keys of their part. What is gone stands at the end.
    """
    before = {part.title: part for part in older.parts}
    parts, numbers = [], [0, 0, 0]
    for part in paper.parts:
        old = before.get(part.title)
        if old is None or not (part.keys or part.grid):
            parts.append(part)
            continue
        marked, counts = _grid_part(part, old) if part.grid and old.grid else _table_part(part, old)
        numbers = [one + more for one, more in zip(numbers, counts, strict=True)]
        parts.append(marked)
    new, other, gone = numbers
    sentence = f"Since {then}: {count_of(new, 'row')} new, {other:,} changed, {gone:,} gone; each is marked."
    return replace(paper, lead=[*paper.lead, sentence], parts=parts)


def _key(row: Row, keys: Sequence[str]) -> tuple[str, ...]:
    return tuple(encode_address(cell) if isinstance(cell, Address) else str(cell) for cell in map(row.get, keys))


def _table_part(part: Part, old: Part) -> tuple[Part, tuple[int, int, int]]:
    report, columns = part.report, list(part.report.columns)
    told = [one for one in columns if one.key not in part.keys and one.head]
    rows, counts = _marked(report.rows, old.report.rows, part.keys, told)
    folded = None
    if report.folded is not None:
        folded, counts = _marked(report.folded, old.report.shown, part.keys, told)
    changed = _with_rows(report, [*columns, _CHANGED], rows, folded)
    return replace(part, report=changed), counts


def _with_rows(
    report: Report, columns: Sequence[Column], rows: Sequence[Row], folded: Sequence[Row] | None
) -> Report:
    """Return a report with other columns and rows."""
    return Report(report.name, report.headline, columns, rows, report.notes, report.empty, folded)


def _marked(
    rows: Sequence[Row], older: Sequence[Row], keys: Sequence[str], told: Sequence[Column]
) -> tuple[list[Row], tuple[int, int, int]]:
    before: dict[tuple[str, ...], list[Row]] = {}
    for row in older:
        before.setdefault(_key(row, keys), []).append(row)
    found: list[Row] = []
    new = other = 0
    for row in rows:
        alike = before.get(_key(row, keys))
        if not alike:
            new += 1
            found.append({**row, "changed": "new"})
            continue
        words = _differences(row, alike.pop(0), told)
        other += bool(words)
        found.append({**row, "changed": words})
    left = [row for some in before.values() for row in some]
    found += [{**row, "changed": "gone"} for row in left]
    return found, (new, other, len(left))


def _differences(row: Row, old: Row, told: Sequence[Column]) -> str:
    words = []
    for column in told:
        was, now = old.get(column.key), row.get(column.key)
        if was != now and column.key in row:
            words.append(f"{column.head.lower()} was {_words(was)}")
    return "; ".join(dict.fromkeys(words))


def _words(cell: Cell) -> str:
    return show_cell(cell) or "nothing"


def _grid_part(part: Part, old: Part) -> tuple[Part, tuple[int, int, int]]:
    """Return a map with ``was→is`` in the cells that changed; folders and columns that came or went say so."""
    grid, before = part.grid, old.grid
    assert grid is not None and before is not None
    known = {
        (row, column): before.cells[down][across]
        for down, row in enumerate(before.rows)
        for across, column in enumerate(before.columns)
    }
    gone = [row for row in before.rows if row not in set(grid.rows)]
    counts = [0, 0, len(gone)]
    cells = []
    for down, row in enumerate(grid.rows):
        is_new = row not in set(before.rows)
        counts[0] += is_new
        line, changed = [], False
        for across, column in enumerate(grid.columns):
            now, was = grid.cells[down][across], known.get((row, column))
            differs = not is_new and was is not None and was != now
            changed |= differs
            line.append(f"{was or '-'}→{now or '-'}" if differs else now)
        counts[1] += changed
        cells.append(line)
    notes = list(part.report.notes)
    notes.append("Where it changed a cell has what was, an arrow, and what is.")
    if gone:
        notes.append(f"Not in this map any more: {', '.join(map(str, gone))}.")
    report = _with_rows(part.report, part.report.columns, part.report.rows, part.report.folded)
    report.notes = notes
    return replace(part, report=report, grid=Grid(grid.rows, grid.columns, cells)), (counts[0], counts[1], counts[2])
