"""``room PERSON FOLDER``: how much this person can still put there, and what stops first."""

from __future__ import annotations

import argparse

from neatledger.app import App
from neatledger.faces.show import show_report
from neatledger.questions import room
from neatledger.reports.room import room_report

__all__ = ["run"]


def run(args: argparse.Namespace, app: App) -> int:
    """Work the room out from the count."""
    office = app.office
    found = room.ask(office, args.person, office.address(args.folder), is_of_plan=app.is_of_plan)
    show_report(room_report(found, office.count.when), app.output)
    return 0
