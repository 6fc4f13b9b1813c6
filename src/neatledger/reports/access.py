"""Access as rows: the same columns for one folder, one person, or everything."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import replace
from functools import lru_cache
from itertools import islice
from typing import Protocol

from neatledger.core.access.everyone import Everyone, RowBlock, RowFilter, flag_rights
from neatledger.core.access.ways import Access, FileCounts, Gate, Way
from neatledger.core.lists.contract import Names, Reason, word_entry
from neatledger.core.lists.rights import Level, Right, level_of, spell_rights
from neatledger.core.tree.address import Address
from neatledger.core.tree.table import Table, folder_paths
from neatledger.reports.report import Aside, Cell, Column, Report, Row, Show

__all__ = [
    "ACCESS_COLUMNS",
    "NOT_KNOWN",
    "AccessRows",
    "access_report",
    "access_row",
    "fold_closed",
    "short_rights",
    "spell_files",
    "way_by",
]

ACCESS_COLUMNS = (
    Column("person", "PERSON", cuts=True),
    Column("account", "ACCOUNT", Show.MACHINE),
    Column("system", "SYSTEM", Show.MACHINE),
    Column("folder", "FOLDER", cuts=True),
    Column("way", "WAY"),
    Column("level", "LEVEL"),
    Column("enter", "ENTER", Show.MACHINE),
    Column("list", "LIST", Show.MACHINE),
    Column("add", "ADD", Show.MACHINE),
    Column("delete", "DELETE", Show.MACHINE),
    Column("manage", "MANAGE", Show.MACHINE),
    Column("rights", "ALSO", Show.PEOPLE, wraps=True),
    Column("files", "FILES", number=True),
    Column("files_read", "READS", number=True),
    Column("files_change", "CHANGES", number=True),
    Column("files_delete", "REMOVES", number=True),
    Column("by", "BY", wraps=True),
    Column("read", "READ", Show.MACHINE),
    Column("view", "VIEW", Show.MACHINE),
)
"""The columns of every table of access; the first fifteen of CSV are kept as they are."""

NOT_KNOWN = "a list was not seen, or cannot be evaluated"
_TELLING = Right.LIST | Right.READ | Right.ADD | Right.CHANGE | Right.DELETE | Right.MANAGE
_TOLD = (Right.ENTER, Right.LIST, Right.ADD, Right.DELETE, Right.MANAGE)


@lru_cache(maxsize=1024)
def short_rights(rights: Right) -> str:
    """Say what the level's name leaves open: removal of the folder itself, or a mixed set spelled out."""
    level = level_of(rights)
    if level is Level.MIXED:
        words = {right: (right.name or "").lower() for right in _TOLD}
        if not rights & Right.READ:
            words[Right.VIEW] = "view"
        return " ".join(word for right, word in words.items() if rights & right)
    return "may delete it" if rights & Right.DELETE else ""


def spell_files(counts: FileCounts | None) -> str:
    """Say how many of a folder's files can be read, changed and removed."""
    if counts is None:
        return "not seen"
    if not counts.files:
        return "no files"
    parts = [(counts.read, "reads"), (counts.change, "changes"), (counts.delete, "removes")]
    if counts.read == counts.change == counts.delete:
        return f"reads, changes, removes {_of(counts.read, counts.files)}"
    return ", ".join(f"{word} {_of(number, counts.files)}" for number, word in parts)


def _of(number: int, files: int) -> str:
    if number in (0, files):
        return f"{'all ' if number else 'none of '}{files:,}"
    return f"{number:,} of {files:,}"


def way_by(way: Way, names: Names) -> str:
    """Say which entry gives a way its rights, or which gate stops it first."""
    gate, reason = _telling(way)
    if reason is None:
        return gate.name
    text = word_entry(reason.entry, names)
    where = f" on {gate.place.decode(errors='replace')}" if gate.stops and gate.name == "enter" else ""
    if gate.stops:
        return text if gate.is_unsure else f"stopped by {text}{where}"
    # What a share or a read-only system takes away of it is part of the answer.
    cuts = [each for each in way.gates if each.name not in ("giver", "enter") or gate.name != "given"]
    cut = next((each for each in cuts if gate.passes & _TELLING & ~each.passes), None)
    if cut is None or cut is gate:
        return text
    by = (
        f"the share {way.through}"
        if cut.name == "share"
        else word_entry(cut.reasons[0].entry, names)
        if cut.reasons
        else cut.name
    )
    return f"{text}, cut by {f'the list ({by})' if cut.name == 'list' else by}"


# The gates of team folders, hand-outs and links whose entries give the rights; what comes after them only cuts.
_GIVING = {"team": "member", "handed": "given", "link": "carries"}


def _telling(way: Way) -> tuple[Gate, Reason | None]:
    """Return the gate that a row names with its entry: the first that stops, or the one that gives."""
    gate = next((each for each in way.gates if each.name == _GIVING.get(way.name)), None)
    if gate is None or way.first_stop is not None or not way.is_known:
        return way.decided_by
    reason = max(gate.reasons, key=lambda each: each.rights.bit_count())
    giver = next((each for each in way.gates if each.name == "giver"), None)
    if giver is not None:
        reason = replace(reason, entry=f"{reason.entry} from {giver.reasons[0].entry}")
    return gate, reason


def access_row(address: Address, way: Way | None, access: Access, names: Names) -> Row:
    """Return the row of one way, or of the union of all ways where `way` is None."""
    principals = {each.principal.account.login: each.principal for each in access.ways}
    rights = access.rights if way is None else way.rights
    is_known = access.is_known if way is None else way.is_known
    counts = access.counts if way is None else way.counts
    also = short_rights(rights) if access.is_folder else spell_rights(rights)
    return {
        "person": access.person,
        "account": "+".join(principals) if way is None else way.principal.account.login,
        "system": address.system,
        "folder": address,
        "way": "any" if way is None else way.name,
        "level": access.level_of(way).value,
        **{(right.name or "").lower(): bool(rights & right) if is_known else None for right in _TOLD},
        "rights": also if is_known else NOT_KNOWN,
        "files": counts.files if counts else None,
        "files_read": counts.read if counts else None,
        "files_change": counts.change if counts else None,
        "files_delete": counts.delete if counts else None,
        "by": way_by(way, names) if way else "",
        "read": bool(rights & Right.READ) if is_known else None,
        "view": bool(rights & (Right.READ | Right.VIEW)) if is_known else None,
    }


_MOST_ROWS = 2_000
_SHOWN = ("person", "folder", "way", "level", "rights", "files", "files_read", "files_change", "files_delete")
_WHAT = {
    RowFilter.DIFFER: "rows where rights are not those of the folder above",
    RowFilter.EVERY: "rows, every folder with any right",
    RowFilter.ALL: "rows, every folder and person",
}


def access_report(name: str, tables: Iterable[AccessRows], which: RowFilter, when: str) -> Report:
    """Make the table of access for people: a row for each way, and the union where there are several.

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
    headline = f"{len(rows) + more:,} {_WHAT[which]}; {folders:,} folders looked at, as found on {when}."
    notes = []
    if which is RowFilter.DIFFER:
        notes.append("A row holds for all that is below it, until another row says otherwise.")
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
