"""The space of the whole office, for the commands that ask about it."""

from __future__ import annotations

import os
from collections.abc import Callable, Mapping
from dataclasses import replace
from datetime import date

from neatledger.app import App
from neatledger.commands.asking import entry_names
from neatledger.core.plan.limits import On
from neatledger.core.space.limit_table import LimitStatus, build_limit_table, join_pools, pool_statuses
from neatledger.core.tree.address import Address
from neatledger.errors import UnknownNameError
from neatledger.formats.names import decode_address
from neatledger.ledger.reader import SurveyReader
from neatledger.ledger.space import SpaceView
from neatledger.ledger.store import CountInfo

__all__ = ["History", "find_folder", "load_history", "load_lines", "load_views", "view_of"]

MOST_COUNTS = 156
"""How many counts back a history goes: three years of weeks."""


def view_of(app: App, reader: SurveyReader, *, with_principals: bool = True) -> SpaceView:
    """Return one system's space in the plan's terms."""
    plan = app.plan.space
    principals = app.principals.get(reader.system, []) if with_principals else []
    return SpaceView(reader, plan.rules_of(reader.system), plan.same_as, principals)


def load_views(app: App) -> dict[str, SpaceView]:
    """Return every system of the count."""
    return {name: view_of(app, reader) for name, reader in app.readers.items()}


def find_folder(app: App, views: Mapping[str, SpaceView], text: str) -> tuple[Address, SpaceView, int]:
    """Find a counted folder by its address as typed, or as machine formats write it; with its view and row.

    Raises `UnknownNameError` where the count has none.
    """
    address = app.address(text)
    app.reader(address.system)
    view = views[address.system]
    for each in (address, Address(address.system, decode_address(os.fsdecode(address.path)))):
        row = view.row_of(each.path)
        if row is not None:
            return each, view, row
    raise UnknownNameError("no folder of this name was counted", str(address), "folders lists what there is")


def owner_names(view: SpaceView) -> Callable[[str], str]:
    """Return what names an owner by their identifier: the person, or else as lists name them."""
    people = {principal.account.ident: principal.person for principal in view.principals}
    names = entry_names(view.reader)
    return lambda ident: people.get(ident) or names.owner(ident)


def load_lines(app: App, views: Mapping[str, SpaceView]) -> list[LimitStatus]:
    """Return a line for every limited place of the office, with since when watched limits with grace are passed.

    On the side of the plan nothing is known of limits but what the plan says.
    """
    lines = join_pools(line for view in views.values() for line in build_limit_table(app.plan, view))
    if app.options.side == "plan":
        lines = [line.without_found() for line in lines]
    return [replace(line, over_since=_over_since(app, line)) for line in lines]


def _over_since(app: App, line: LimitStatus) -> date | None:
    """Return the day of the first of the latest unbroken counts above a limit; where grace depends on it."""
    limit = line.settings.limit
    if line.grace_left(app.today) is None or limit is None or line.amount <= limit:
        return None
    since = app.count.taken_at.astimezone().date()
    for count in reversed(counts_until(app)[:-1]):
        figures = History(app, [count]).used(line)
        if not figures or figures[-1][1] <= limit:
            break
        since = figures[-1][0]
    return since


def counts_until(app: App) -> list[CountInfo]:
    """Return the counts up to the one that is asked, the oldest first."""
    found = app.ledger.counts()
    return found[: found.index(app.count) + 1][-MOST_COUNTS:]


class History:
    """What places used at each of some counts, one count opened after another."""

    def __init__(self, app: App, counts: list[CountInfo]) -> None:
        self._app = app
        self._views = [(count.taken_at.astimezone().date(), count.taken_at, self._open(count)) for count in counts]

    def _open(self, count: CountInfo) -> dict[str, SpaceView]:
        readers = self._app.readers_of(count)
        return {name: view_of(self._app, reader, with_principals=False) for name, reader in readers.items()}

    def used(self, line: LimitStatus) -> list[tuple[date, int]]:
        """Return what a place used at each count that holds it: day and bytes.

        Where the system's own figure stands for the place now, only counts with such a figure are taken.
        """
        is_told = line.found is not None and line.found.used is not None
        amounts = ((day, _amount(self._app, line, views, is_told=is_told)) for day, _, views in self._views)
        return [(day, amount) for day, amount in amounts if amount is not None]


def _amount(app: App, line: LimitStatus, views: Mapping[str, SpaceView], *, is_told: bool) -> int | None:
    place = line.target
    view = views.get(place.system)
    if view is None:
        return None
    if place.on is On.POOL:
        pools = join_pools(each for one in views.values() for each in pool_statuses(app.plan, one))
        pool = next((each for each in pools if each.target.name == place.name), None)
        if pool is None or not is_told:
            return pool.used if pool else None
        return pool.found.used if pool.found else None
    if is_told and line.found is not None:
        reported = {(one.on, one.name): one.used for one in view.found}
        return reported.get((place.on, line.found.name))
    match place.on:
        case On.FOLDER:
            return view.used_in(place.address.path)
        case On.PERSON:
            idents = {
                principal.account.ident
                for principal in app.principals.get(place.system, [])
                if principal.person == place.name
            }
            used = view.used_by_owner()
            return sum(used.get(ident, 0) for ident in idents)
        case _:
            idents_of = {group.name: group.ident for group in view.groups}
            return view.used_by_group().get(idents_of.get(place.name, place.name), 0)


def load_history(app: App) -> History:
    """Return the history up to the count that is asked."""
    return History(app, counts_until(app))
