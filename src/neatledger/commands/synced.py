"""``synced PERSON``: what a synced device would hold for a person, after the rules of syncing."""

from __future__ import annotations

import argparse

import numpy as np

from neatledger.app import App
from neatledger.commands.asking import find_person
from neatledger.commands.holdings import load_views
from neatledger.commands.whole import load_everyone
from neatledger.core.people.principals import Principal
from neatledger.core.plan.space import SyncRules
from neatledger.core.space.synced import SyncedSystem, find_synced
from neatledger.core.tree.patterns import match_folders
from neatledger.faces.show import show_report
from neatledger.ledger.space import SpaceView
from neatledger.reports.synced import synced_report

__all__ = ["add_arguments", "run"]


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Declare the words of the call."""
    parser.add_argument("person", metavar="PERSON", help="a person's id, login or name")


def run(args: argparse.Namespace, app: App) -> int:
    """Add up what the person reads, and take off what the rules leave out."""
    person, principals = find_person(app, args.person)
    rules = app.plan.space.sync or SyncRules()
    views = load_views(app)
    found = {name: (views[name], _of_system(app, views[name], mine, rules)) for name, mine in principals.items()}
    tops = [
        (view.path(row), files, size)
        for view, each in found.values()
        for row, (files, size) in each.tops.items()
        if files or size
    ]
    reported = {name: each for name, (_, each) in found.items()}
    has_rules = app.plan.space.sync is not None
    show_report(synced_report(person, reported, tops, rules, app.count.when, has_rules=has_rules), app)
    return 0


def _of_system(app: App, view: SpaceView, principals: list[Principal], rules: SyncRules) -> SyncedSystem:
    everyone = load_everyone(app.services, view.reader, principals)
    order = everyone.matrix.order
    left_out = np.zeros(order.rows, dtype=bool)
    for folder in rules.folders:
        if folder.system == view.name:
            for row in match_folders(folder.path, everyone.matrix.folders):
                left_out[order.below(row)] = True
    for again in view.again:
        # What another folder shows too need not be held twice.
        left_out[order.below(again.row)] = True
    if view.sorts is not None:
        left_out |= view.sorts > 0
    kinds = [number for number, word in enumerate(view.kind_words) if word in rules.kinds]
    classes, large = view.reader.table("classes"), view.reader.table("large")
    return find_synced(everyone, classes, large, left_out, kinds, rules.largest)
