"""``report``: a paper for people who decide, or a worklist to tick off, as a page or a workbook."""

from __future__ import annotations

import argparse
from pathlib import Path

from neatledger.app import App
from neatledger.errors import UsageError
from neatledger.files import write_file
from neatledger.reports.paper import Paper

__all__ = ["add_arguments", "run"]


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Declare the words of the call."""
    parser.add_argument("about", choices=("space", "mend"), help="space, or the worklist that mend shows")


def run(args: argparse.Namespace, app: App) -> int:
    """Write the paper to the file that -o names; its form goes by the file's ending."""
    target = app.options.output
    suffix = Path(target).suffix.lower() if target else ""
    if target is None or suffix not in (".html", ".xlsx"):
        hint = f"write: report {args.about} -o {args.about}.html (a page) or -o {args.about}.xlsx"
        raise UsageError("where to, and as what?", hint=hint)
    paper = _worklist(app) if args.about == "mend" else _space(app)
    if suffix == ".html":
        from neatledger.faces.page import render_page

        write_file(target, render_page(paper).encode("utf-8", "backslashreplace"))
    else:
        from neatledger.faces.workbook import render_workbook

        write_file(target, render_workbook(paper))
    app.say(f"The report is in {target}.")
    return 0


def _space(app: App) -> Paper:
    from neatledger.questions import report_space
    from neatledger.reports.spacepaper import space_paper

    office = app.office
    found = report_space.ask(office)
    return space_paper(office.plan, found, office.count.when, office.today, office.caveats())


def _worklist(app: App) -> Paper:
    from neatledger.questions import worklist
    from neatledger.questions.ends import findings_ended
    from neatledger.questions.texts import StepTexts
    from neatledger.reports.mend import mend_report
    from neatledger.reports.mendpaper import mend_paper

    office = app.office
    found = worklist.ask(office)
    ends = findings_ended(office, found)
    texts = StepTexts(office)
    report = mend_report(found.items, ends, (), office.names, texts.lines, office.count.when)
    return mend_paper(report, found.left, office.plan.office, office.today, office.caveats())
