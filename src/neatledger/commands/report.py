"""``report space``: a paper for people who decide, as a page or a workbook."""

from __future__ import annotations

import argparse
from pathlib import Path

from neatledger.app import App
from neatledger.errors import UsageError
from neatledger.files import write_file
from neatledger.questions import report_space
from neatledger.reports.spacepaper import space_paper

__all__ = ["add_arguments", "run"]


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Declare the words of the call."""
    parser.add_argument("about", choices=("space",), help="what the report is about")


def run(args: argparse.Namespace, app: App) -> int:
    """Write the paper to the file that -o names; its form goes by the file's ending."""
    target = app.options.output
    suffix = Path(target).suffix.lower() if target else ""
    if target is None or suffix not in (".html", ".xlsx"):
        raise UsageError("where to, and as what?", hint="write: report space -o space.html (a page) or -o space.xlsx")
    office = app.office
    found = report_space.ask(office)
    paper = space_paper(office.plan, found, office.count.when, office.today, office.caveats())
    if suffix == ".html":
        from neatledger.faces.page import render_page

        write_file(target, render_page(paper).encode("utf-8", "backslashreplace"))
    else:
        from neatledger.faces.workbook import render_workbook

        write_file(target, render_workbook(paper))
    app.say(f"The report is in {target}.")
    return 0
