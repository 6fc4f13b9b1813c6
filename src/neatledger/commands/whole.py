"""A whole system at once, for the commands that ask about more than one path."""

from __future__ import annotations

import os
from collections.abc import Iterable, Sequence
from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from neatledger.app import App
from neatledger.commands.asking import find_person
from neatledger.core.access.everyone import Everyone, RowFilter, flag_rights
from neatledger.core.lists.rights import Level, level_of
from neatledger.core.people.principals import Principal
from neatledger.core.tree.address import Address
from neatledger.core.tree.table import folder_paths
from neatledger.errors import UnknownNameError
from neatledger.faces.accesstable import CSV_HEAD, LineMaker
from neatledger.faces.show import open_output
from neatledger.ledger.reader import SurveyReader
from neatledger.ledger.services import Services, plain_matrix
from neatledger.reports.access import ACCESS_COLUMNS, NOT_KNOWN, fold_closed, short_rights
from neatledger.reports.report import Cell, Report, Show

__all__ = ["load_everyone", "people_rows", "wanted_principals", "write_tables"]

_MOST_FOR_PEOPLE = 2_000
_UNUSED = (
    "first_class",
    "classes",
    "bytes",
    "occupied",
    "changed",
    "inode",
    "links",
    "specials",
    "first_odd",
    "odds",
)


def load_everyone(
    services: Services,
    reader: SurveyReader,
    principals: Sequence[Principal],
    *,
    with_defaults: bool = False,
    is_narrow: bool = False,
) -> Everyone:
    """Read what access needs of a system, and return its table of access for some of its principals.

    Default lists are read only when asked for. With `is_narrow` all ways into a service but an administrator's
    are one, and principals may be there that it does not have.
    """
    unused = _UNUSED if with_defaults else (*_UNUSED, "default")
    service = services.service(reader.system)
    if service is not None:
        known = service.numbers
        more = [principal for principal in principals if principal.account.login not in known]
        service = replace(service, principals=[*service.principals, *more]) if more else service
        shown = {service.numbers[principal.account.login] for principal in principals}
        return Everyone(services.matrix(reader, unused, service=service, is_narrow=is_narrow), shown)
    return Everyone(plain_matrix(reader, principals, unused))


def wanted_principals(app: App, system: str, people: Sequence[str] | None) -> list[Principal]:
    """Return a system's principals, or those of some people."""
    if not people:
        return app.services.holders[system]
    return [principal for name in people for principal in find_person(app, name)[1].get(system, [])]


def write_tables(
    name: str, tables: Iterable[tuple[SurveyReader, Everyone]], which: RowFilter, below: Address | None, app: App
) -> None:
    """Write the table of access as CSV or JSON, block by block."""
    is_json = app.options.format == "json"
    with open_output(app) as out:
        out.write(f'{{"report": "{name}", "rows": [\n' if is_json else CSV_HEAD)
        waiting = ""
        for reader, everyone in tables:
            maker = LineMaker(reader.system, everyone, everyone.matrix.folders, is_json)
            for text in maker.lines(everyone.blocks(which, _chosen(reader, everyone, below))):
                out.write(waiting)
                waiting = text
        out.write(waiting.rstrip(",\n") + "\n]}\n" if is_json else waiting)


def _chosen(reader: SurveyReader, everyone: Everyone, below: Address | None) -> NDArray[np.int64] | None:
    if below is None:
        return None
    folders, missing = reader.find_path(below.path)
    if missing is not None:
        raise UnknownNameError("no folder of this name was counted", f"{below.system}:{os.fsdecode(below.path)}")
    return everyone.rows_below(folders[-1].row)


def people_rows(
    tables: Iterable[tuple[SurveyReader, Everyone]], which: RowFilter, below: Address | None, app: App
) -> Report:
    """Make the table of access for people: a row for each way, and the union where there are several."""
    rows: list[Sequence[Cell]] = []
    folders = more = 0
    for reader, everyone in tables:
        path_of = folder_paths(everyone.matrix.folders)
        chosen = _chosen(reader, everyone, below)
        folders += everyone.matrix.folders.rows if chosen is None else len(chosen)
        for block in everyone.blocks(which, chosen):
            more += max(0, len(block.folder) + len(rows) - _MOST_FOR_PEOPLE)
            numbers = zip(
                block.folder.tolist(), block.column.tolist(), block.flags.tolist(), block.unknown.tolist(),
                block.files.tolist(), *(count.tolist() for count in block.counts), strict=True,
            )  # fmt: skip
            for folder, column, flags, unknown, *counts in numbers:
                if len(rows) >= _MOST_FOR_PEOPLE:
                    break
                way = everyone.columns[column]
                principal = everyone.matrix.principals[way.principals[0]]
                rights = flag_rights(flags)
                rows.append(
                    (
                        principal.person,
                        Address(reader.system, path_of(folder)),
                        way.way,
                        Level.UNKNOWN.value if unknown else level_of(rights).value,
                        NOT_KNOWN if unknown else short_rights(rights),
                        # Counts of no files at all would be noise.
                        *(None if number < 0 else number if counts[0] else "" for number in counts),
                    )
                )
    rows = _without_twins(rows)
    if which is RowFilter.DIFFER and len({row[0] for row in rows}) == 1:
        rows = fold_closed(rows)
    shown = {"person", "folder", "way", "level", "rights", "files", "files_read", "files_change", "files_delete"}
    columns = [column for column in ACCESS_COLUMNS if column.key in shown and column.show is not Show.MACHINE]
    if len({row[0] for row in rows}) == 1:
        # One person's table need not name them in every row.
        columns, rows = columns[1:], [row[1:] for row in rows]
    what = {
        RowFilter.DIFFER: "rows where rights are not those of the folder above",
        RowFilter.EVERY: "rows, every folder with any right",
        RowFilter.ALL: "rows, every folder and person",
    }[which]
    when = app.count.when
    headline = f"{len(rows) + more:,} {what}; {folders:,} folders looked at, as found on {when}."
    notes = (
        ["A row holds for all that is below it, until another row says otherwise."]
        if which is RowFilter.DIFFER
        else []
    )
    notes += [f"{more:,} rows are left out here; --format csv writes all."] if more else []
    return Report("access", headline, columns, rows, notes, "no rows: nobody has any right here")


def _without_twins(rows: Sequence[Sequence[Cell]]) -> list[Sequence[Cell]]:
    """Leave out the rows of all ways together that say no more than one way does."""
    reported = {(row[0], row[1], row[3:]) for row in rows if row[2] != "any"}
    return [row for row in rows if row[2] != "any" or (row[0], row[1], row[3:]) not in reported]
