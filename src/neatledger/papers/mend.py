"""The worklist as a paper to hand to somebody: a part a system, a box to tick before every step."""

from __future__ import annotations

from dataclasses import replace

from neatledger.questions import worklist
from neatledger.questions.ends import findings_ended
from neatledger.questions.office import Office
from neatledger.questions.seen import caveats
from neatledger.questions.texts import StepTexts
from neatledger.reports.mend import mend_report, stays_report
from neatledger.reports.paper import Paper, Part
from neatledger.reports.report import Aside, Column, Report, Row, Show

__all__ = ["make"]

_BOX = "\u2610"


def make(office: Office) -> Paper:
    """Make the paper of the worklist; steps keep their numbers, for their order goes over all systems."""
    found = worklist.ask(office)
    ends = findings_ended(office, found)
    # What no step ends has a part of its own.
    report = mend_report(found.items, ends, (), office.names, StepTexts(office).lines, office.count.when)
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
    lead = [
        report.headline,
        *(note for note in report.notes if not isinstance(note, Aside)),
        *caveats(office, for_paper=True),
    ]
    lead.insert(1, "mend --script prints each step as a command or a change record, in the same order.")
    if found.left:
        parts.append(Part("What stays", stays_report(found.left)))
    return Paper(f"{office.plan.office}: what to mend", f"made on {office.today}", lead, parts)
