"""What commands write beside their answer: files of steps for mend, and worksheets to print."""

from __future__ import annotations

from collections.abc import Iterable, Sequence

from neatledger.app import App
from neatledger.core.steps.contract import Step
from neatledger.faces.papers import write_paper
from neatledger.formats.stepfiles import write_steps
from neatledger.reports.report import Report, count_of
from neatledger.reports.worksheet import worksheet

__all__ = ["keep_steps", "write_worksheets"]


def keep_steps(app: App, target: str | None, steps: Sequence[Step]) -> None:
    """Write steps to the file that ``--steps`` names, if it names any, and say how they are made."""
    if target:
        write_steps(target, steps)
        app.say(f"{count_of(len(steps), 'step')} in {target}: mend {target}")


def write_worksheets(app: App, targets: Iterable[str], report: Report) -> None:
    """Write a sheet of what is to be done to each of some pages or workbooks."""
    for target in targets:
        write_paper(target, worksheet(report, app.office.plan.office, app.today))
        app.say(f"The paper is in {target}.")
