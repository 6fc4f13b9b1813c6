"""``gather``: look at all systems and keep a dated count."""

from __future__ import annotations

import argparse
import signal

from neatledger import __version__
from neatledger.app import App
from neatledger.core.survey.survey import Survey
from neatledger.faces.progress import Progress
from neatledger.faces.show import show_report
from neatledger.reports.gathered import gathered_report
from neatledger.sources.contract import SourceContext
from neatledger.sources.limits import add_limits
from neatledger.sources.table import load_source

__all__ = ["add_arguments", "run"]


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Declare the words of the call."""
    parser.add_argument("--not-seen", action="store_true", help="list all that could not be seen")


def run(args: argparse.Namespace, app: App) -> int:
    """Gather every system of the plan; the count is stored whole, at the end, or not at all."""
    plan = app.plan
    surveys: list[Survey] = []
    seconds = {}
    for name, system in plan.systems.items():
        with Progress(app.streams.err, name, quiet=app.options.quiet) as progress:
            asks = app.credentials_for(name)
            context = SourceContext(name, app.office_dir, system.settings, app.today, progress, asks)
            survey = load_source(system.source)(context)
            add_limits(survey, context)
            surveys.append(survey)
            seconds[name] = progress.seconds
    ledger = app.open_ledger(create=True)
    before = signal.getsignal(signal.SIGINT)
    try:
        # From here on Ctrl-C comes too late: "stopped" must not be said of a count that is kept.
        count = ledger.add_count(surveys, app.now, __version__, lambda: signal.signal(signal.SIGINT, signal.SIG_IGN))
        show_report(gathered_report(count, surveys, seconds, list_all=args.not_seen), app)
    finally:
        signal.signal(signal.SIGINT, before)
    return 0
