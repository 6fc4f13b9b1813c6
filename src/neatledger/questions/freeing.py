"""What would free space on a pool that is nearly full, the surest first, and how long that would last."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from datetime import UTC, date, datetime, timedelta

import numpy as np
from numpy.typing import NDArray

from neatledger.core.people.homes import match_homes
from neatledger.core.plan.limits import UNLIMITED, On
from neatledger.core.plan.space import BarredFiles
from neatledger.core.space.forecast import Outlook, find_trend
from neatledger.core.space.limit_table import LimitStatus, PoolFolders, folders_in_pool
from neatledger.core.space.when import Meeting
from neatledger.core.tree.address import Address
from neatledger.counting import count_of
from neatledger.ledger.homes import find_homes
from neatledger.ledger.space import SpaceView
from neatledger.questions import kinds, versions
from neatledger.questions.limits import load_history
from neatledger.questions.office import Office

__all__ = ["FreeFirst", "Freeing", "ask", "is_soon"]

_Mask = NDArray[np.bool_]
"""A mark for each folder of a system, in the order of its rows."""
_SOON = timedelta(days=30)
_IDLE = timedelta(days=365)
_FEWER = 2
"""By how much the number of old versions is divided for a trial."""


@dataclass(frozen=True, slots=True)
class Freeing:
    """One thing that would free space: what it is, how much at least and at most (bytes), and what is to be done.

    `command` shows more, without the command's own name; empty: nothing does.
    """

    what: str
    low: int
    high: int
    todo: str
    command: str = ""


@dataclass(frozen=True, slots=True)
class FreeFirst:
    """A pool that is nearly full: its outlook, and what would free space on it."""

    outlook: Outlook
    things: Sequence[Freeing]

    def weeks(self, amount: int) -> float | None:
        """Return for how many weeks an amount would last at the growth of now; None where it does not grow."""
        trend = self.outlook.trend
        return amount / (trend.slope * 7) if trend is not None and trend.slope > 0 else None


def ask(office: Office, statuses: Sequence[LimitStatus], views: Mapping[str, SpaceView]) -> list[FreeFirst]:
    """Return what to free first on each pool that is past its first warning, or full within thirty days."""
    found = []
    history = None
    for status in statuses:
        limit = status.settings.limit
        if status.target.on is not On.POOL or not isinstance(limit, int) or not status.is_counted:
            continue
        history = history or load_history(office)
        used = history.used(status)
        outlook = Outlook(status, find_trend(used), tuple(used))
        if status.warned is not None or status.amount >= limit or is_soon(office, outlook, limit):
            found.append(FreeFirst(outlook, _things(office, status, views)))
    return found


def is_soon(office: Office, outlook: Outlook, limit: int) -> bool:
    """Tell whether a place is full within thirty days, as far as a date can be given."""
    when = outlook.trend.meets(limit) if outlook.trend else None
    return bool(when and when.meeting is Meeting.ON and when.day and when.day <= office.today + _SOON)


def _things(office: Office, status: LimitStatus, views: Mapping[str, SpaceView]) -> list[Freeing]:
    """Return all that would free space, the most first."""
    assert status.pool is not None, "a status of a pool has the pool"
    found: list[Freeing] = []
    for name in dict.fromkeys(key.partition(":")[0] for key in status.pool.holds):
        view = views.get(name)
        if view is None:
            continue
        folders = folders_in_pool(office.plan, status.pool, name)
        if Address(name, b"/") in folders.holds:
            found += _bin(name, view)
            found += _old_versions(office, name, view)
        is_here = view.mask_of(folders)
        barred = [files for files in kinds.barred_on(office, view) if _lies_in(files.folder, view, is_here)]
        homes = dict(_homes_of_leavers(office, view, is_here))
        found += _not_allowed(barred)
        found += homes.values()
        told = {files.folder for files in barred} | set(homes)
        found += _idle(view, office.today, is_here & ~view.mask_of(PoolFolders(tuple(told), ())))
    return sorted(found, key=lambda thing: (-thing.high, thing.what))


def _lies_in(address: Address, view: SpaceView, is_in: _Mask) -> bool:
    row = view.row_of(address.path)
    return row is not None and bool(is_in[row])


def _bin(name: str, view: SpaceView) -> Iterator[Freeing]:
    held = versions.bin_bytes(view)
    if held:
        days = view.rules.bin_days
        kept = f", kept {days} days" if isinstance(days, int) else ", kept forever" if days is UNLIMITED else ""
        todo = "empty it" if isinstance(days, int) else "empty it; set a limit"
        yield Freeing(f"bin of {name}{kept}", held, held, todo)


def _old_versions(office: Office, name: str, view: SpaceView) -> Iterator[Freeing]:
    # What most kinds keep: of the others more may be kept for a reason.
    kept = Counter(one.kept for one in versions.kept_versions(office, view, None)).most_common(1)
    fewer = kept[0][0] // _FEWER if kept else 0
    if not fewer:
        return
    tried = versions.kept_versions(office, view, {"": fewer})
    # Of a kind of which fewer are kept already, this would keep more: that is no part of it.
    freed = [one.freed for one in tried if one.freed is not None and one.kept > fewer]
    low, high = sum(max(0, one[0]) for one in freed), sum(max(0, one[1]) for one in freed)
    if high > 0:
        command = f"suppose --versions {name}={fewer}"
        yield Freeing(f"old versions beyond {fewer} on {name}", low, high, f"keep {fewer}", command)


def _not_allowed(barred: Sequence[BarredFiles]) -> Iterator[Freeing]:
    by_owner: dict[tuple[str, str], int] = {}
    for files in barred:
        by_owner[files.kind, files.owner] = by_owner.get((files.kind, files.owner), 0) + files.size
    for (kind, owner), size in by_owner.items():
        yield Freeing(
            f"{kind} files of {owner}, not allowed", size, size, f"ask {owner}", "space --by kind --only not-allowed"
        )


def _homes_of_leavers(office: Office, view: SpaceView, is_here: _Mask) -> Iterator[tuple[Address, Freeing]]:
    planned = office.plan.systems.get(view.name)
    if planned is None:
        return
    gone = {
        login: person.id
        for person in office.plan.people.values()
        if person.end is not None and person.end < office.today
        for login in person.accounts.get(view.name, ())
    }
    for home in match_homes(find_homes(view.reader, planned), view.reader.accounts):
        people = {gone.get(account.login) for account in home.accounts}
        person = people.pop() if len(people) == 1 else None
        row = view.row_of(home.address.path)
        if person and row is not None and is_here[row]:
            size = view.at(row).occupied
            if size:
                what = f"home of {person}, who has left"
                yield home.address, Freeing(what, size, size, "look, then remove")


def _idle(view: SpaceView, today: date, is_here: _Mask) -> Iterator[Freeing]:
    """Yield the large files of some folders that nobody changed for a year, together."""
    table = view.reader.table("large")
    before = (datetime.combine(today, datetime.min.time(), UTC) - _IDLE).timestamp()
    is_idle = (table["changed"] < before) & is_here[table["folder"]]
    number = int(is_idle.sum())
    if number:
        total = int(table["occupied"][is_idle].sum())
        what = f"{count_of(number, 'large file')} unchanged for a year on {view.name}"
        yield Freeing(what, total, total, "ask the owners", f"space {view.name}:/ --by file")
