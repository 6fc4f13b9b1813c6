"""What many offices answered: a summary with a row for each, and their rows together with whose they are."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from neatledger.reports.assurances import assured
from neatledger.reports.paper import Paper, Part
from neatledger.reports.report import Column, Report, Row, count_of

__all__ = ["OfficeAnswer", "merged_report", "offices_report", "summary_paper"]


@dataclass(frozen=True)
class OfficeAnswer:
    """What one office answered: its folder and name, the exit status, why it failed (empty: it did not), its reports.

    `said` is what was said besides.
    """

    folder: str
    title: str
    status: int
    failure: str
    reports: Sequence[Report]
    said: Sequence[str]


_MOST_OTHERS = 20
_COLUMNS = (
    Column("office", "OFFICE", cuts=True),
    Column("folder", "FOLDER", cuts=True),
    Column("state", "STATE"),
    Column("said", "IN SHORT", wraps=True),
)


def _state(one: OfficeAnswer) -> str:
    if one.failure or one.status > 1:
        return "failed" if one.failure else "failed in part"
    if one.status:
        return "something to do"
    if not one.reports or any(report.rows or not report.columns for report in one.reports):
        # No fault stopped it, and yet it tells something (a paper has no rows here): whoever reads it judges.
        return _TOLD
    return assured("office", not any(report.is_bounded for report in one.reports), _IN_ORDER[1]).text


_IN_ORDER = "in order", "in order, as far as was seen"
_TOLD = "something to read"


def offices_report(
    answers: Sequence[OfficeAnswer], pages: Mapping[str, str] | None = None, others: Sequence[str] = ()
) -> Report:
    """Show a row for each office, those that failed first; `pages` are the files of each, where there are any.

    `others` are folders that the pattern means too, and that are no offices.
    """
    ranked = sorted(answers, key=lambda one: (not one.failure, -one.status))
    rows: list[Row] = [
        {
            "office": one.title,
            "folder": one.folder if pages is None else pages[one.folder],
            "state": _state(one),
            "said": one.failure or " ".join(report.headline for report in one.reports),
        }
        for one in ranked
    ]
    numbers = [
        (sum(bool(one.failure) for one in answers), "failed"),
        (sum(not one.failure and one.status != 0 for one in answers), "with something to do"),
        (sum(_state(one) == _TOLD for one in answers), f"with {_TOLD}"),
        *((sum(_state(one) == state for one in answers), state) for state in _IN_ORDER),
    ]
    parts = ", ".join(f"{number} {word}" for number, word in numbers if number)
    shown = ", ".join(others[:_MOST_OTHERS]) + (", …" if len(others) > _MOST_OTHERS else "")
    notes = [f"No office, for want of a plan: {shown}."] if others else []
    return Report("offices", f"{count_of(len(answers), 'office')}: {parts}.", _COLUMNS, rows, notes)


def merged_report(answers: Sequence[OfficeAnswer], others: Sequence[str] = ()) -> Report:
    """Return the rows of all offices as one table, with the folder of each; what failed is told in the notes."""
    known: dict[str, Column] = {}
    rows: list[Row] = []
    for one in answers:
        for report in one.reports:
            known |= {column.key: column for column in report.columns if column.key not in known}
            rows += [{"office": one.folder, **row} for row in report.rows]
    notes = [f"{one.folder}: {note}" for one in answers for report in one.reports for note in report.notes]
    notes += [f"{one.folder} failed: {one.failure}" for one in answers if one.failure]
    name = next((report.name for one in answers for report in one.reports), "offices")
    columns = (Column("office", "OFFICE"), *known.values())
    every = [{column.key: row.get(column.key, "") for column in columns} for row in rows]
    summary = offices_report(answers, others=others)
    return Report(name, summary.headline, columns, every, [*notes, *summary.notes])


def summary_paper(answers: Sequence[OfficeAnswer], pages: Mapping[str, str], others: Sequence[str] = ()) -> Paper:
    """Return one page for all offices."""
    report = offices_report(answers, pages, others)
    return Paper("All offices", report.headline, [], [Part("Office by office", report, keys=("office", "folder"))])
