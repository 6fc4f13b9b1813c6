"""What comes of somebody starting, moving or leaving, as a paper to print: what there is, and steps to tick off."""

from __future__ import annotations

from dataclasses import replace
from datetime import date

from neatledger.reports.paper import Paper, Part
from neatledger.reports.report import Column, Report, Row

__all__ = ["worksheet"]

_BOX = "\u2610"
_STEPS = (
    Column("done", "DONE"),
    Column("day", "DAY"),
    Column("place", "WHERE"),
    Column("value", "WHAT TO DO", wraps=True),
    Column("by", "BY", wraps=True),
)


def worksheet(report: Report, office: str, today: date) -> Paper:
    """Return a report of facts with steps among them as a paper of two parts."""
    steps = [row for row in report.rows if str(row["what"]).startswith("step ")]
    facts = replace(report, rows=[row for row in report.rows if row not in steps], notes=[])
    parts = [Part("What comes of it", facts)]
    if steps:
        rows = [_step(row) for row in steps]
        parts.append(Part("Steps", Report("steps", f"{len(rows)} steps, in this order.", _STEPS, rows)))
    # What the tool did, or would do, is no matter of whoever holds the paper.
    lead = [report.headline, *(str(note) for note in report.notes if str(note).startswith("Mind: "))]
    return Paper(f"{office}: {report.headline.partition(':')[0]}", f"made on {today}", lead, parts)


def _step(row: Row) -> Row:
    day, _, by = str(row["because"]).partition(": ")
    return {"done": _BOX, "day": day, "place": row["place"], "value": row["value"], "by": by}
