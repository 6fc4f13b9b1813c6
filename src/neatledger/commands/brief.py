"""``brief``: one screen for Monday morning: what is new and gone, the gravest, what lapses, fills up and waits."""

from __future__ import annotations

import argparse

from neatledger.app import App
from neatledger.faces.show import show_report
from neatledger.questions import brief
from neatledger.reports.brief import brief_report

__all__ = ["add_arguments", "run"]


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Declare the words of the call: it takes none of its own."""


def run(args: argparse.Namespace, app: App) -> int:
    """Show it; the exit status is 1 where there is anything new."""
    found = brief.ask(app.office)
    show_report(brief_report(found, app.office.today), app.output)
    return int(bool(found.new))
