"""``report``: a paper for people who decide, or a worklist to tick off, as a page or a workbook."""

from __future__ import annotations

import argparse
from importlib import import_module
from pathlib import Path

from neatledger.app import App
from neatledger.cli import day_of
from neatledger.errors import UsageError
from neatledger.faces.papers import is_paper, write_paper
from neatledger.files import check_target
from neatledger.papers import PAPERS
from neatledger.questions.office import Office
from neatledger.reports.paper import Paper, sealed
from neatledger.reports.report import Report

__all__ = ["add_arguments", "run"]


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Declare the words of the call."""
    parser.add_argument("about", choices=PAPERS, help="; ".join(map(": ".join, PAPERS.items())))
    parser.add_argument("--since", metavar="DATE", type=day_of, help="mark what changed since the count of this day")


def run(args: argparse.Namespace, app: App) -> int:
    """Write the paper to the file that -o names; its form goes by the file's ending."""
    targets = [target for target in (app.options.output, *args.others) if target is not None]
    if not targets or not all(map(is_paper, targets)):
        hint = f"write: report {args.about} -o {args.about}.html (a page) or -o {args.about}.xlsx"
        other = next((target for target in targets if not is_paper(target)), "")
        ending = Path(other).suffix
        raise UsageError(f"no report is written as {ending or other}" if other else "which file?", hint=hint)
    for target in targets:
        check_target(target)
    with app.progress(f"report {args.about}"):
        paper = _make(args.about, app.office)
        if args.since is not None:
            paper = _beside(args, app, paper)
        paper = sealed(paper, app.office.ledger.chain.head())
        for target in targets:
            write_paper(target, paper)
    if app.collected is not None:
        app.collected.append(Report("report", " ".join(paper.lead), (), ()))
        return 0
    app.say(f"The report is in {' and in '.join(targets)}.")
    return 0


def _make(about: str, office: Office) -> Paper:
    paper: Paper = import_module(f"neatledger.papers.{about}").make(office)
    return paper


def _beside(args: argparse.Namespace, app: App, paper: Paper) -> Paper:
    """Return the paper with what changed since the older count; the plan is that of today in both."""
    from neatledger.papers.against import beside_older

    if args.about == "mend":
        raise UsageError("a worklist is not compared with an older one", hint="changes shows what changed")
    then = app.office.ledger.find_count(args.since)
    older = app.office.at(then.day).with_(day=then.day)
    return beside_older(paper, _make(args.about, older), then.when)
