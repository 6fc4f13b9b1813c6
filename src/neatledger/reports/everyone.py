"""The table of access of everybody: rows block by block, and for people what is many folded."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Sequence
from itertools import islice
from typing import Protocol

from neatledger.core.access.everyone import Everyone, RowBlock, RowFilter, flag_rights
from neatledger.core.lists.rights import Level, level_of
from neatledger.core.tree.address import Address
from neatledger.core.tree.table import Table, folder_paths
from neatledger.reports.access import ACCESS_COLUMNS, NOT_KNOWN, short_rights
from neatledger.reports.report import Aside, Cell, Report, Row, count_of

__all__ = ["AccessRows", "access_report", "fold_closed"]

_MOST_ROWS = 2_000
_SHOWN = ("person", "folder", "way", "level", "rights", "files", "files_read", "files_change", "files_delete")
_WHAT = {
    RowFilter.DIFFER: "rows where rights are not those of the folder above",
    RowFilter.EVERY: "rows, every folder with any right",
    RowFilter.ALL: "rows, every folder and person",
}


def access_report(
    name: str, tables: Iterable[AccessRows], which: RowFilter, when: str, files: Sequence[Row] = ()
) -> Report:
    """Make the table of access for people: a row for each way, and the union where there are several.

    `files` are rows of single files, which come after those of the folders.

    Machines are shown the whole table block by block, and not this report.
    """
    rows: list[Row] = []
    folders = more = 0
    for table in tables:
        path_of = folder_paths(table.folders)
        folders += table.folder_count
        for block in table.blocks(which):
            more += max(0, len(block.folder) + len(rows) - _MOST_ROWS)
            rows += islice(_block_rows(table, block, path_of), _MOST_ROWS - len(rows))
    rows = _without_twins(rows)
    is_one = len({row["person"] for row in rows}) == 1
    if which is RowFilter.DIFFER and is_one:
        rows = fold_closed(rows)
    # One person's table need not name them in every row.
    shown = [key for key in _SHOWN if not (is_one and key == "person")]
    columns = [column for column in ACCESS_COLUMNS if column.key in shown]
    rows += files
    headline = f"{len(rows) + more:,} {_WHAT[which]}; {folders:,} folders looked at, as found on {when}."
    notes = []
    if which is RowFilter.DIFFER:
        notes.append("A row holds for all that is below it, until another row says otherwise.")
    if files:
        notes.append(f"{count_of(len(files), 'row')} of files that are handed out or linked by themselves.")
    notes += [Aside(f"{more:,} rows are left out here; --format csv writes all.")] if more else []
    return Report(name, headline, columns, rows, notes, "no rows: nobody has any right here")


class AccessRows(Protocol):
    """One system's table of access."""

    @property
    def system(self) -> str: ...
    @property
    def everyone(self) -> Everyone: ...
    @property
    def folders(self) -> Table: ...
    @property
    def folder_count(self) -> int: ...
    def blocks(self, which: RowFilter) -> Iterator[RowBlock]:
        """Yield the wanted rows."""


def _block_rows(table: AccessRows, block: RowBlock, path_of: Callable[[int], bytes]) -> Iterator[Row]:
    counts = block.counts
    arrays = (
        block.folder,
        block.column,
        block.flags,
        block.unknown,
        counts.files,
        counts.read,
        counts.change,
        counts.delete,
    )
    for folder, number, flags, is_unknown, *of_files in zip(*(each.tolist() for each in arrays), strict=True):
        column = table.everyone.columns[number]
        rights = flag_rights(flags)
        # Counts of no files at all would be noise.
        files = [None if number < 0 else number if of_files[0] else "" for number in of_files]
        yield {
            "person": table.everyone.matrix.principals[column.principals[0]].person,
            "folder": Address(table.system, path_of(folder)),
            "way": column.way,
            "level": Level.UNKNOWN.value if is_unknown else level_of(rights).value,
            "rights": NOT_KNOWN if is_unknown else short_rights(rights),
            **dict(zip(("files", "files_read", "files_change", "files_delete"), files, strict=True)),
        }


def _without_twins(rows: Sequence[Row]) -> list[Row]:
    """Leave out the rows of all ways together that say no more than one way does."""

    def said(row: Row) -> tuple[Cell, ...]:
        return tuple(cell for key, cell in row.items() if key != "way")

    by_one = {said(row) for row in rows if row["way"] != "any"}
    return [row for row in rows if row["way"] != "any" or said(row) not in by_one]


_FEW_CLOSED = 6


def fold_closed(rows: Sequence[Row]) -> list[Row]:
    """Fold the folders of one place that are closed to a person into one row, where they are many."""

    def group_of(row: Row) -> tuple[str, bytes, Cell] | None:
        folder = row["folder"]
        if isinstance(folder, Address) and row["level"] == Level.NONE.value:
            return folder.system, folder.path.rpartition(b"/")[0], row["way"]
        return None

    closed: dict[tuple[str, bytes, Cell], list[Row]] = {}
    for row in rows:
        group = group_of(row)
        if group is not None:
            closed.setdefault(group, []).append(row)
    folded: list[Row] = []
    for row in rows:
        group = group_of(row)
        same = closed[group] if group is not None else []
        if group is None or len(same) <= _FEW_CLOSED:
            folded.append(row)
        elif row is same[0]:
            where = f"{len(same)} in {group[0]}:{group[1].decode('utf-8', 'surrogateescape') or '/'}"
            no_counts = dict.fromkeys(("files", "files_read", "files_change", "files_delete"), "")
            folded.append({**row, "folder": where, **no_counts})
    return folded
