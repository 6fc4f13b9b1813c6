"""``how FOLDER WHO=LEVEL …``: the fewest changes that give just that, and nothing else to anybody."""

from __future__ import annotations

import argparse

from neatledger.app import App
from neatledger.commands.ways.written import keep_steps
from neatledger.core.lists.rights import Right
from neatledger.faces.show import show_report
from neatledger.formats.words import parse_pair
from neatledger.questions import plan_words, want
from neatledger.questions.supposing import LEVELS, rights_called
from neatledger.reports.want import want_report

__all__ = ["add_arguments", "run"]


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Declare the words of the call."""
    parser.add_argument("folder", metavar="FOLDER", help="a folder, as barn:/Records")
    parser.add_argument(
        "wishes", metavar="WHO=LEVEL", nargs="+",
        help=f"a person, or all of a group: {', '.join(LEVELS)}; later ones win",
    )  # fmt: skip
    parser.add_argument("--steps", metavar="FILE", help="also write the steps there, for mend FILE")


def run(args: argparse.Namespace, app: App) -> int:
    """Look for the fewest changes, and show what comes of them."""
    office = app.office
    address = office.find_folder(args.folder)
    wishes: dict[str, Right] = {}
    for word in args.wishes:
        who, level = parse_pair(word, "WHO=LEVEL")
        rights = rights_called(level)
        for person in want.people_meant(office, address.system, who):
            wishes[person] = rights
    with app.progress("looking for the fewest changes"):
        found = want.ask(office, address, wishes)
    keep_steps(app, args.steps, found.steps)
    words = plan_words.ask(office, found.then, found.steps) if found.changes and found.then else []
    report = want_report(found, office.names, words, office.count.when, args.steps or "")
    show_report(report, app.output)
    return 0 if found.is_exact else 1
