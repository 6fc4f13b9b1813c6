"""``guests``: who is a guest, by whom, what they reach, and what is to happen next."""

from __future__ import annotations

import argparse

from neatledger.app import App
from neatledger.commands.whole import load_everyone
from neatledger.core.access.everyone import Everyone, RowFilter, flag_rights
from neatledger.core.lists.rights import Level, level_of
from neatledger.core.people.principals import Principal
from neatledger.core.plan.plan import Kind
from neatledger.core.plan.sharing import days_of
from neatledger.core.sharing.holders import ANY_GUEST
from neatledger.core.tree.table import folder_paths
from neatledger.faces.show import show_report
from neatledger.reports.guests import GuestFacts, guests_report

__all__ = ["add_arguments", "run"]

_FEW = 6


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Declare the words of the call."""


def run(args: argparse.Namespace, app: App) -> int:
    """List the guests of every system, those idle for longest first."""
    found: list[GuestFacts] = []
    for system, reader in app.readers.items():
        principals = [
            principal
            for principal in app.services.holders[system]
            if principal.kind is Kind.GUEST and principal.person != ANY_GUEST
        ]
        if principals:
            found += _reached(load_everyone(app.services, reader, principals, is_narrow=True), principals)
    settings = app.plan.settings
    idle, remove = days_of(settings, "guest-idle-days"), days_of(settings, "guest-remove-days")
    show_report(guests_report(found, app.services.day, idle, remove, app.count.when), app)
    return 0


def _reached(everyone: Everyone, principals: list[Principal]) -> list[GuestFacts]:
    """Return what each guest reaches: the folders where that begins, and how many they are in all."""
    path_of = folder_paths(everyone.matrix.folders)
    tops: dict[str, list[str]] = {principal.account.login: [] for principal in principals}
    counts = dict.fromkeys(tops, 0)
    for which in (RowFilter.DIFFER, RowFilter.EVERY):
        for block in everyone.blocks(which):
            numbers = zip(block.folder.tolist(), block.column.tolist(), block.flags.tolist(), strict=True)
            for folder, column, flags in numbers:
                way = everyone.columns[column]
                login = everyone.matrix.principals[way.principals[0]].account.login
                if way.way != everyone.matrix.ways[0] or login not in tops:
                    continue
                level = level_of(flag_rights(flags))
                if which is RowFilter.EVERY:
                    counts[login] += 1
                elif level is not Level.NONE:
                    where = path_of(folder).decode("utf-8", "surrogateescape")
                    tops[login].append(f"{level.value} {where}")
    return [
        GuestFacts(principal, _cut(tops[principal.account.login]), counts[principal.account.login])
        for principal in principals
    ]


def _cut(tops: list[str]) -> list[str]:
    return tops if len(tops) <= _FEW else [*tops[:_FEW], f"{len(tops) - _FEW} more"]
