"""``guests``: who is a guest, by whom, what they reach, and what is to happen next."""

from __future__ import annotations

import argparse

from neatledger.app import App
from neatledger.core.plan.sharing import days_of
from neatledger.faces.show import show_report
from neatledger.questions import guests
from neatledger.reports.guests import guests_report

__all__ = ["run"]


def run(args: argparse.Namespace, app: App) -> int:
    """List the guests of every system, those idle for longest first."""
    office = app.office
    found, settings = guests.ask(office), office.plan.settings
    idle, remove = days_of(settings, "guest-idle-days"), days_of(settings, "guest-remove-days")
    show_report(guests_report(found, office.day, idle, remove, office.count.when), app.output)
    return 0
