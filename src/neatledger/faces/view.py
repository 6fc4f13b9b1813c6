"""How a table is asked for: which columns, in which order, and how many rows of it."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

from neatledger.core.tree.address import Address
from neatledger.errors import UsageError
from neatledger.formats.nearest import or_else
from neatledger.reports.report import SECTION, Aside, Cell, Column, Portion, Report, Row, Show, count_of

__all__ = ["WHOLE", "View", "shape"]


@dataclass(frozen=True, slots=True)
class View:
    """What is asked for: columns by name, columns to sort by (``used``, ``used:up``), and how many rows.

    `is_all` shows people every row and folds none, `is_wide` every column, with whole addresses.
    """

    columns: tuple[str, ...] = ()
    sort: tuple[str, ...] = ()
    top: int | None = None
    is_all: bool = False
    is_wide: bool = False

    def __bool__(self) -> bool:
        return bool(self.columns or self.sort or self.top is not None or self.is_wide)


WHOLE = View()
"""All columns and rows, as they come."""


def shape(report: Report, view: View, *, for_machines: bool) -> Report:
    """Return a report as it is asked for; raises `UsageError` for a column that it does not have.

    People may ask for columns that only machines are shown: then they are shown every row, and nothing folded.
    """
    if not view:
        return report
    hidden = Show.PEOPLE if for_machines else Show.MACHINE
    named = {key: one for one in report.columns if one.show is not hidden for key in _names(one)}
    rows = report.rows if for_machines else [row for row in report.shown if SECTION not in row]
    wanted = [*view.columns, *(word.partition(":")[0] for word in view.sort)]
    if not for_machines and any(_plain(word) not in named for word in wanted):
        named |= {
            key: replace(one, show=Show.ALWAYS) for one in report.columns for key in _names(one) if key not in named
        }
        if any(one.key not in row for word in wanted if (one := named.get(_plain(word))) for row in rows[:1]):
            rows = report.rows
    columns: Sequence[Column] = [_find(word, named) for word in view.columns] or report.columns
    if view.is_wide and not view.columns and not for_machines:
        columns, rows = _all_columns(report)
    rows = _sorted(rows, view.sort, named)
    notes = list(report.notes)
    if view.top is not None and len(rows) > view.top:
        notes.append(Aside(f"The first {count_of(view.top, 'row')} of {len(rows):,}."))
        rows = rows[: view.top]
    if for_machines:
        return Report(report.name, report.headline, columns, rows, notes, report.empty)
    return replace(report, columns=columns, notes=notes, folded=rows)


def _all_columns(report: Report) -> tuple[Sequence[Column], Sequence[Row]]:
    """Return every column, and the rows that have them all: as people see them, where these do."""
    rows = [row for row in report.shown if SECTION not in row]
    if any(one.key not in row for row in rows for one in report.columns):
        if any(one.key not in row for row in report.rows for one in report.columns if one.show is not Show.PEOPLE):
            return [one for one in report.columns if one.show is not Show.MACHINE], rows
        columns = [one for one in report.columns if one.show is not Show.PEOPLE]
        rows = list(report.rows)
    else:
        columns = list(report.columns)
    heads = [one.head or one.key.replace("_", " ").upper() for one in columns]
    return [replace(one, show=Show.ALWAYS, head=head) for one, head in zip(columns, heads, strict=True)], rows


def _plain(word: str) -> str:
    return word.casefold().replace(" ", "_").replace("-", "_")


def _names(column: Column) -> list[str]:
    """Return by what a column may be asked for: its heading as people see it, and its name for machines."""
    return [_plain(word) for word in (column.key, column.head) if word]


def _find(word: str, named: dict[str, Column]) -> Column:
    if _plain(word) not in named:
        known = list(dict.fromkeys(one.key for one in named.values()))
        raise UsageError(f"there is no column {word!r}", hint=or_else(word, known, f"there are: {', '.join(known)}"))
    return named[_plain(word)]


def _sorted(rows: Sequence[Row], words: Sequence[str], named: dict[str, Column]) -> list[Row]:
    """Return rows in the order asked for: numbers the most first, texts from A on, unless it is said otherwise."""
    found = list(rows)
    for word in reversed(words):
        name, _, way = word.partition(":")
        if way not in ("", "up", "down"):
            raise UsageError(f"not a way to sort: {way!r}", hint="write: --sort used:up, or used:down")
        column = _find(name, named)
        has = [row for row in found if row[column.key] not in (None, "")]
        lacks = [row for row in found if row[column.key] in (None, "")]
        falls = way == "down" or (not way and all(_is_number(row[column.key]) for row in has))
        key = _number if all(_is_number(row[column.key]) for row in has) else _text
        has.sort(key=lambda row: key(row[column.key]), reverse=falls)
        found = has + lacks
    return found


def _is_number(cell: Cell) -> bool:
    return isinstance(cell, int | Portion)


def _number(cell: Cell) -> tuple[float, str]:
    if isinstance(cell, Portion):
        return (cell.part / cell.whole if cell.whole else 0.0), ""
    return (float(cell), "") if isinstance(cell, int) else (0.0, "")


def _text(cell: Cell) -> tuple[float, str]:
    if isinstance(cell, Address):
        return 0.0, f"{cell.system}\0" + cell.path.decode("utf-8", "surrogateescape").replace("/", "\0").casefold()
    return 0.0, " ".join(cell).casefold() if isinstance(cell, tuple) else str(cell).casefold()
