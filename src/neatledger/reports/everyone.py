"""The table of access of everybody: rows block by block, and for people what is many folded."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Sequence
from itertools import islice
from typing import Protocol

from neatledger.core.access.everyone import Everyone, RowBlock, RowFilter, flag_rights
from neatledger.core.lists.rights import Level, level_of
from neatledger.core.tree.address import Address
from neatledger.core.tree.table import Table, folder_paths
from neatledger.formats.ways import WAY_WORDS
from neatledger.reports.access import ACCESS_COLUMNS, FLAGS, can_words, known_part, short_rights
from neatledger.reports.assurances import assured
from neatledger.reports.report import Aside, Cell, Report, Row, count_of

__all__ = ["AccessRows", "access_report", "fold_alike"]

_MOST_ROWS = 2_000
_SHOWN = ("person", "folder", "way", "level", "can", "through", "files", "files_read", "files_change", "files_delete")
_WHAT = {
    RowFilter.DIFFER: "only folders whose rights differ from the folder above",
    RowFilter.EVERY: "every folder with any right",
    RowFilter.ALL: "every folder and person",
}


def access_report(
    name: str,
    tables: Iterable[AccessRows],
    which: RowFilter,
    when: str,
    files: Sequence[Row] = (),
    *,
    is_whole: bool = False,
    headline: str = "",
) -> Report:
    """Make the table of access for people: a row for each way, and the union where there are several.

    Of a long one the first rows, unless it `is_whole`; folded only where it is not. `files` are rows of single files,
    which come after those of the folders.

    Machines are shown the whole table block by block, and not this report.
    """
    rows: list[Row] = []
    folders = more = 0
    for table in tables:
        path_of = folder_paths(table.folders)
        folders += table.folder_count
        for block in table.blocks(which):
            more += 0 if is_whole else max(0, len(block.folder) + len(rows) - _MOST_ROWS)
            most = None if is_whole else _MOST_ROWS - len(rows)
            rows += islice(_block_rows(table, block, path_of), most)
    rows = _without_twins(rows)
    is_one = len({row["person"] for row in rows}) == 1
    if which is RowFilter.DIFFER and is_one and not is_whole:
        rows = fold_alike(rows)
    # One person's table need not name them in every row.
    shown = [key for key in _SHOWN if not (is_one and key == "person")]
    columns = [column for column in ACCESS_COLUMNS if column.key in shown]
    rows += files
    headline = f"{headline}{count_of(len(rows) + more, 'row')} of {count_of(folders, 'folder')}: {_WHAT[which]}."
    notes = []
    if which is RowFilter.DIFFER:
        notes.append("A row also applies to everything below it, unless another row follows.")
    if files:
        notes.append(f"{count_of(len(files), 'row')} of files that are handed out or linked by themselves.")
    notes += [Aside(f"{more:,} rows are left out here; --format csv writes all.")] if more else []
    said = assured("no-rights", not rows, "")
    return Report(name, headline, columns, said.or_rows(rows), notes, said.text, is_assured=said.is_assured)


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
        level = Level.UNKNOWN.value if is_unknown else level_of(rights).value
        # Counts of no files at all would be noise.
        files = [None if number < 0 else number if of_files[0] else "" for number in of_files]
        yield {
            "person": table.everyone.matrix.principals[column.principals[0]].person,
            "folder": Address(table.system, path_of(folder)),
            "way": column.way,
            "level": level,
            FLAGS: int(rights),
            "can": can_words(level, known_part(rights) if is_unknown else short_rights(rights)),
            "through": WAY_WORDS[column.way],
            **dict(zip(("files", "files_read", "files_change", "files_delete"), files, strict=True)),
        }


def _without_twins(rows: Sequence[Row]) -> list[Row]:
    """Leave out the rows of all ways together that say no more than one way does."""

    def said(row: Row) -> tuple[Cell, ...]:
        return tuple(cell for key, cell in row.items() if key not in ("way", "through", FLAGS))

    by_one = {said(row) for row in rows if row["way"] != "any"}
    return [row for row in rows if row["way"] != "any" or said(row) not in by_one]


_FEW_ALIKE = 6
_COUNTS = ("files", "files_read", "files_change", "files_delete")


def fold_alike(rows: Sequence[Row]) -> list[Row]:
    """Fold the folders of one place on which a person has the same into one row, where they are many."""

    def group_of(row: Row) -> tuple[Cell, ...] | None:
        folder = row["folder"]
        if not isinstance(folder, Address):
            return None
        return folder.system, folder.path.rpartition(b"/")[0], row["way"], row["can"]

    alike: dict[tuple[Cell, ...], list[Row]] = {}
    for row in rows:
        group = group_of(row)
        if group is not None:
            alike.setdefault(group, []).append(row)
    folded: list[Row] = []
    for row in rows:
        group = group_of(row)
        same = alike[group] if group is not None else []
        if len(same) <= _FEW_ALIKE:
            folded.append(row)
        elif row is same[0] and isinstance(row["folder"], Address):
            above = row["folder"].path.rpartition(b"/")[0].decode("utf-8", "surrogateescape")
            where = f"{len(same)} in {row['folder'].system}:{above or '/'}"
            folded.append({**row, "folder": where, **{key: _sum_of(same, key) for key in _COUNTS}})
    return folded


def _sum_of(rows: Sequence[Row], key: str) -> Cell:
    """Return what folders have together; nothing where one of them is not known, or has none at all."""
    numbers = [row[key] for row in rows if row[key] != ""]
    known = [number for number in numbers if isinstance(number, int)]
    return sum(known) if known and len(known) == len(numbers) else None if numbers else ""
