"""``forecast [PLACE]``: when warnings, limits and pools are met."""

from __future__ import annotations

import argparse

from neatledger.app import App
from neatledger.errors import UsageError
from neatledger.faces.show import show_report
from neatledger.questions import forecast
from neatledger.reports.forecast import forecast_report, growth_of

__all__ = ["run"]


def run(args: argparse.Namespace, app: App) -> int:
    """Forecast all limited places, or one."""
    with app.progress("history") as progress:
        outlooks = forecast.ask(app.office, args.place, is_of_plan=app.is_of_plan, progress=progress)
    if args.figure and len(outlooks) != 1:
        raise UsageError("a figure shows one place", hint="name it: space PLACE --forecast -o FILE.png")
    show_all = args.all or bool(args.place)
    show_report(forecast_report(outlooks, app.office.count.when, show_all=show_all), app.output)
    if args.figure:
        from neatledger.faces.figures import draw_growth, save_figure

        save_figure(draw_growth(growth_of(outlooks[0])), args.figure)
        app.say(f"The figure is in {args.figure}.")
    return 0
