"""Every limited place of the office with both sides, what is used, and what it used at earlier counts."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from datetime import date
from functools import cached_property

from neatledger.core.plan.limits import On
from neatledger.core.space.limit_table import LimitStatus, build_limit_table, join_pools, pool_statuses
from neatledger.ledger.space import SpaceView
from neatledger.ledger.store import CountInfo
from neatledger.questions.office import Office
from neatledger.questions.views import link_views, view_of

__all__ = ["History", "ask", "load_history", "recent_counts"]

MOST_COUNTS = 156
"""How many counts back a history goes: three years of weeks."""


def ask(office: Office, views: Mapping[str, SpaceView], *, is_of_plan: bool = False) -> list[LimitStatus]:
    """Return every limited place, with since when watched limits with grace are passed.

    On the side of the plan nothing is known of limits but what the plan says.
    """
    found = join_pools(status for view in views.values() for status in build_limit_table(office.plan, view))
    if is_of_plan:
        found = [status.without_found() for status in found]
    return [replace(status, over_since=_over_since(office, status)) for status in found]


def _over_since(office: Office, status: LimitStatus) -> date | None:
    """Return the day of the first of the latest unbroken counts above a limit; where grace depends on it."""
    if status.grace_left(office.today) is None or not status.is_over:
        return None
    since = office.count.day
    for count in reversed(recent_counts(office)[:-1]):
        figures = History(office, [count]).used(status)
        if not figures or not status.would_be_over(figures[-1][1]):
            break
        since = figures[-1][0]
    return since


def recent_counts(office: Office) -> list[CountInfo]:
    """Return the counts that a history is made of, up to the one that is asked, the oldest first."""
    return office.counts_until()[-MOST_COUNTS:]


class _Then:
    """The systems at one count, and their pools, which are worked out once for all that ask."""

    def __init__(self, office: Office, day: date, views: Mapping[str, SpaceView]) -> None:
        self._office = office
        self.day = day
        self.views = views

    @cached_property
    def pools(self) -> dict[str, LimitStatus]:
        """The pools by their names."""
        found = join_pools(each for one in self.views.values() for each in pool_statuses(self._office.plan, one))
        return {one.target.name: one for one in found}


class History:
    """What places used at each of some counts, one count opened after another."""

    def __init__(self, office: Office, counts: list[CountInfo]) -> None:
        self._office = office
        self._counts = [_Then(office, count.day, self._open(count)) for count in counts]

    def _open(self, count: CountInfo) -> dict[str, SpaceView]:
        readers = self._office.readers_of(count)
        views = {name: view_of(self._office, reader, with_principals=False) for name, reader in readers.items()}
        link_views(views.values())
        return views

    def used(self, status: LimitStatus) -> list[tuple[date, int]]:
        """Return what a place used at each count that holds it: day and bytes.

        Where the system's own figure stands for the place now, only counts with such a figure are taken.
        """
        is_reported = status.found is not None and status.found.used is not None
        amounts = ((then.day, self._amount(status, then, is_reported=is_reported)) for then in self._counts)
        return [(day, amount) for day, amount in amounts if amount is not None]

    def _amount(self, status: LimitStatus, then: _Then, *, is_reported: bool) -> int | None:
        target = status.target
        view = then.views.get(target.system)
        if view is None:
            return None
        if target.on is On.POOL:
            pool = then.pools.get(target.name)
            if pool is None or not is_reported:
                return pool.used if pool else None
            return pool.found.used if pool.found else None
        if is_reported and status.found is not None:
            reported = {(one.on, one.name): one.used for one in view.found}
            return reported.get((target.on, status.found.name))
        match target.on:
            case On.FOLDER:
                return view.used_in(target.address.path)
            case On.PERSON:
                principals = self._office.principals.get(target.system, [])
                idents = {one.account.ident for one in principals if one.person == target.name}
                used = view.used_by_owner()
                return sum(used.get(ident, 0) for ident in idents)
            case _:
                idents_of = {group.name: group.ident for group in view.groups}
                return view.used_by_group().get(idents_of.get(target.name, target.name), 0)


def load_history(office: Office) -> History:
    """Return the history up to the count that is asked."""
    return History(office, recent_counts(office))
