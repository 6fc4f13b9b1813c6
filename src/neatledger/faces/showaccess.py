"""Show the table of access: for machines whole, as it is worked out; for people its first rows."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from itertools import chain

from neatledger.core.access.everyone import RowBlock, RowFilter
from neatledger.errors import UsageError
from neatledger.faces.accesstable import KEYS, AccessLines
from neatledger.faces.machine import PARQUET, WRITERS
from neatledger.faces.output import Output, open_output
from neatledger.faces.show import parquet_target, show_report
from neatledger.reports.everyone import AccessRows, access_report
from neatledger.reports.report import Row

__all__ = ["show_access", "table_text"]


def show_access(
    name: str,
    tables: Iterable[AccessRows],
    which: RowFilter,
    when: str,
    output: Output,
    *,
    more: Sequence[Row] = (),
    empty: str = "",
    made: Iterable[str] | None = None,
) -> None:
    """Write the tables, system after system, and then `more`; `empty` is said to people where there is none.

    `made` is the text of the tables for machines, where it was made elsewhere by `table_text`.
    """
    writer = WRITERS.get(output.form)
    if output.view and (writer is not None or output.form == PARQUET):
        raise UsageError(
            "to machines the table of access goes whole, as it is worked out", hint="choose and sort what is written"
        )
    if output.form == PARQUET:
        from neatledger.faces.parquet import write_access
        from neatledger.faces.parquet_set import is_set, write_access_set

        target = parquet_target(output)
        if is_set(target):
            count, _ = output.counted()
            write_access_set(tables, which, target, count, more)
        else:
            write_access(tables, which, target, more)
        return
    if writer is None:
        report = access_report(name, tables, which, when, more)
        report.empty = empty or report.empty
        show_report(report, output)
        return
    texts = (
        made
        if made is not None
        else (
            text
            for table in tables
            for text in AccessLines(table.system, table.everyone, table.folders, writer).texts(table.blocks(which))
        )
    )
    with open_output(output) as out:
        rows = (writer.piece(KEYS, [row[key] for key in KEYS]) for row in more)
        out.writelines(writer.of_pieces(name, KEYS, chain(texts, rows)))


def table_text(table: AccessRows, blocks: Iterator[RowBlock], form: str) -> str:
    """Return the text of some rows of a table, as it stands in the whole of it; `form` is that of a machine."""
    return "".join(AccessLines(table.system, table.everyone, table.folders, WRITERS[form]).texts(blocks))
