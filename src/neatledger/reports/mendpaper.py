"""The worklist as a paper to hand to somebody: a part a system, a box to tick before every step."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from datetime import date

from neatledger.reports.mend import LeftOver, stays_report
from neatledger.reports.paper import Paper, Part
from neatledger.reports.report import Aside, Column, Report, Row, Show

__all__ = ["mend_paper"]

_BOX = "\u2610"


def mend_paper(
    report: Report, left: Sequence[LeftOver], office: str, today: date, caveats: Sequence[str] = ()
) -> Paper:
    """Make the paper of a worklist; steps keep their numbers, for their order goes over all systems.

    `left` is what no step ends: it has a part of its own, so `report` is made without it.
    """
    systems = list(dict.fromkeys(str(row["system"]) for row in report.rows))
    columns = (
        Column("done", "DONE"),
        *(
            # What a step ends is a column of its own: on the screen it stands with who gains and loses.
            replace(one, head="ENDS", show=Show.ALWAYS, wraps=True) if one.key == "ends" else one
            for one in report.columns
            if one.key not in ("system", "kind")
        ),
    )
    parts = []
    for system in systems:
        rows: list[Row] = [{"done": _BOX, **row} for row in report.rows if row["system"] == system]
        part = Report("mend", f"{len(rows)} of {len(report.rows)} steps are on {system}.", columns, rows)
        parts.append(Part(system, part))
    lead = [report.headline, *(note for note in report.notes if not isinstance(note, Aside)), *caveats]
    lead.insert(1, "mend --texts prints each step as a command or a change record, in the same order.")
    if left:
        parts.append(Part("What stays", stays_report(left)))
    return Paper(f"{office}: what to mend", f"made on {today}", lead, parts)
