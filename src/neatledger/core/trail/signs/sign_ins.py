"""Sign-ins: bursts of refused ones, accounts that must not be used, hours and places at which nobody came before."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import datetime, time, timedelta
from ipaddress import ip_address, ip_network

import numpy as np
from numpy.typing import NDArray

from neatledger.core.trail.records import Did
from neatledger.core.trail.signs.bursts import bursts, runs
from neatledger.core.trail.signs.contract import NUMBER, History, Sign, SignKind
from neatledger.core.trail.signs.wording import from_places, length, some

__all__ = ["find"]

Ints = NDArray[np.int64]
_HOUR, _DAY = 3600, 86400
_PAUSE = 6 * _HOUR  # after which somebody comes anew
_PAST_DAYS, _MOST_PAST_DAYS = 30, 90  # of an account, before its hours or places can be unusual, and at most
_PAST_ACTIVE_DAYS = 15
_HOURS_AWAY = 3
_LARGE = {4: 16, 6: 32}  # bits of the network within which a provider may give out another address every day


def find(history: History) -> Iterator[Sign]:
    """Yield the signs of this family."""
    yield from _accounts_tried(history)
    yield from _unusual_places(history)
    for login, rows in history.accounts():
        yield from _account_tried(history, login, rows)
        yield from _must_not_be_used(history, login, rows)
        yield from _unusual_hours(history, login, rows[history.table.is_done[rows]])


def _account_tried(history: History, login: str, rows: Ints) -> Iterator[Sign]:
    limits, moments = history.limits, history.table.moments
    refused = history.done(rows, Did.SIGN_IN, is_done=False)
    done = rows[history.table.is_done[rows]]
    for first, last in bursts(moments[refused], limits.burst_minutes * 60, limits.failed_sign_ins):
        span = int(moments[refused[first]]), int(moments[refused[last]])
        if span[1] < history.since:
            continue
        number = last - first + 1
        tried_from = history.addresses(refused[first : last + 1])
        after = done[(moments[done] >= span[1]) & (moments[done] <= span[1] + _HOUR)]
        # Some logs tell of no sign-in but only of what was done then.
        came_in = (history.addresses(after) & tried_from) if tried_from else set(after.tolist())
        words = f"{number:,} sign-ins refused in {length(span[1] - span[0])}{from_places(tried_from)}"
        words += "; then one was let in" if came_in else "; none was let in within the hour after"
        yield Sign.of(history, SignKind.ACCOUNT_TRIED, span, number, limits.failed_sign_ins, words, login=login)


def _accounts_tried(history: History) -> Iterator[Sign]:
    """Yield where many accounts were tried from one address, or from none that is known."""
    table, limits = history.table, history.limits
    rows = history.done(np.arange(len(table)), Did.SIGN_IN, is_done=False)
    for address in np.unique(table.addresses[rows]).tolist():
        mine = rows[table.addresses[rows] == address]
        for first, last in bursts(table.moments[mine], limits.burst_minutes * 60, limits.failed_accounts):
            span = int(table.moments[mine[first]]), int(table.moments[mine[last]])
            tried = {table.logins[one] for one in table.who[mine[first : last + 1]].tolist()}
            if span[1] < history.since or len(tried) < limits.failed_accounts:
                continue
            origin = table.places[address] if address >= 0 else "where is not known"
            words = f"{len(tried):,} accounts tried in {length(span[1] - span[0])}, from {origin}: {some(tried)}"
            yield Sign.of(history, SignKind.ACCOUNTS_TRIED, span, len(tried), limits.failed_accounts, words)


def _must_not_be_used(history: History, login: str, rows: Ints) -> Iterator[Sign]:
    table, known = history.table, history.known
    done = rows[table.is_done[rows] & (table.moments[rows] >= history.since)]
    over = known.over.get(login.casefold())
    if over is not None:
        begin = datetime.combine(over[0], time.min, history.zone).timestamp()
        done = done[table.moments[done] >= begin]
        kind, why = SignKind.LEFT_BUT_ACTIVE, over[1]
    elif known.logins and login.casefold() not in known.logins:
        # Who changes a directory's entries may be no account of it.
        done = done[(table.did[done] == NUMBER[Did.SIGN_IN]) | (table.folders[done] >= 0)]
        kind, why = SignKind.UNKNOWN_ACCOUNT, "no account of this name was ever counted there"
    else:
        return
    if len(done):
        span = int(table.moments[done[0]]), int(table.moments[done[-1]])
        number = int(table.numbers[done].sum())
        words = f"{why}; {number:,} {'record' if number == 1 else 'records'}{from_places(history.addresses(done))}"
        yield Sign.of(history, kind, span, number, 1, words, login=login)


def _unusual_hours(history: History, login: str, rows: Ints) -> Iterator[Sign]:
    """Yield at which times somebody came as they never came before."""
    moments = history.table.moments[rows]
    recent = int(np.searchsorted(moments, history.since))
    before = moments[recent - 1] if recent else 0
    for run in runs(moments[recent:], _PAUSE):
        row = recent + run
        if run or moments[row] - before > _PAUSE:
            past = _past(moments, row)
            if past is not None:
                yield from _hour(history, login, int(moments[row]), past)


def _past(moments: Ints, row: int) -> Ints | None:
    """Return the moments before one, if there are enough of them to say what is usual."""
    past: Ints = moments[:row]
    past = past[past >= moments[row] - _MOST_PAST_DAYS * _DAY]
    if len(np.unique(past // _DAY)) < _PAST_ACTIVE_DAYS or moments[row] - past[0] < _PAST_DAYS * _DAY:
        return None
    return past


def _hour(history: History, login: str, moment: int, past: Ints) -> Iterator[Sign]:
    here = datetime.fromtimestamp(moment, history.zone).astimezone(history.zone)
    # One offset for all: that the clocks were changed in between is within the hours that are let pass.
    offset = int((here.utcoffset() or timedelta()).total_seconds())
    away = np.abs(np.unique((past + offset) % _DAY // _HOUR) - (moment + offset) % _DAY // _HOUR)
    nearest = int(np.minimum(away, 24 - away).min())
    if nearest >= _HOURS_AWAY:
        days = int(moment - past[0]) // _DAY
        words = f"came at {here:%H:%M}, {nearest} hours from any hour at which they were seen in {days} days before"
        span = moment, moment
        yield Sign.of(history, SignKind.UNUSUAL_HOUR, span, nearest, _HOURS_AWAY, words, login=login)


def _unusual_places(history: History) -> Iterator[Sign]:
    """Yield who came from where nobody ever came before."""
    table = history.table
    rows = np.flatnonzero((table.addresses >= 0) & table.is_done)
    _, first = np.unique(table.addresses[rows], return_index=True)
    seen: set[str] = set()
    for row in sorted(rows[first].tolist()):
        address = table.places[table.addresses[row]]
        network = _network(address)
        is_new = network is not None and network not in seen
        if network is None or not is_new:
            continue
        moment = int(table.moments[row])
        # In the first weeks every place is new.
        if seen and moment >= history.since and moment - table.moments[0] >= _PAST_DAYS * _DAY:
            words = f"came from {address}, and from all of {network} nobody ever came before"
            login = table.logins[table.who[row]]
            yield Sign.of(history, SignKind.UNUSUAL_PLACE, (moment, moment), 1, 1, words, login=login)
        seen.add(network)


def _network(address: str) -> str | None:
    try:
        found = ip_address(address)
    except ValueError:
        return None
    return str(ip_network((found, _LARGE[found.version]), strict=False))
