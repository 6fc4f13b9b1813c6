"""Rights that are changed and changed again, and what is done to the log itself."""

from __future__ import annotations

from collections.abc import Iterator
from itertools import pairwise

import numpy as np

from neatledger.core.trail.records import Did
from neatledger.core.trail.signs.contract import NUMBER, History, Sign, SignKind, moment_of
from neatledger.core.trail.signs.wording import length

__all__ = ["find"]

_HOUR, _DAY = 3600, 86400
_QUICK = 600  # seconds; who tries until it is right changes rights again within less
_USES = (Did.OPEN, Did.CHANGE, Did.DELETE, Did.RENAME)
_WEEKS, _ACTIVE_DAYS = 4, 12  # a past in which the days of a system are compared, and how many of them it must have
_USUAL_PER_DAY = 20


def find(history: History) -> Iterator[Sign]:
    """Yield the signs of this family."""
    yield from _changed_twice(history)
    yield from _logging(history)
    yield from _silence(history)


def _changed_twice(history: History) -> Iterator[Sign]:
    """Yield where rights were changed, and changed again after a while, by whomever."""
    table = history.table
    rows = history.done(np.flatnonzero(table.moments >= history.since), Did.RIGHTS)
    if not len(rows):
        return
    first, last = int(table.moments[rows[0]]), int(table.moments[rows[-1]]) + 1
    # Of a directory's entries there is no path: what was changed stands in further words.
    changes: dict[tuple[bytes, str], list[tuple[int, str]]] = {}
    for login in sorted({table.logins[one] for one in np.unique(table.who[rows]).tolist()}):
        for record in history.fetch(login, Did.RIGHTS, first, last):
            if record.is_done:
                entry = "" if record.path else record.detail.partition(": ")[0]
                changes.setdefault((record.path, entry), []).append((int(record.moment.timestamp()), login))
    for (path, entry), some in changes.items():
        some.sort()
        turns = [one for at, one in enumerate(some) if not at or one[0] - some[at - 1][0] >= _QUICK]
        for (moment, login), (again, other) in pairwise(turns):
            gap = again - moment
            if gap > history.limits.widened_hours * _HOUR:
                continue
            words = f"rights{f' of {entry}' if entry else ''} changed, and changed again {length(gap)} later"
            words += f" by {other}" if other != login else ""
            if path:
                uses = _uses_between(history, path, moment, again)
                words += f"; {uses:,} {'use' if uses == 1 else 'uses'} in between"
            yield Sign.of(
                history, SignKind.WIDENED_AND_NARROWED, (moment, again), max(gap // _HOUR, 1),
                history.limits.widened_hours, words, login=login, path=path,
            )  # fmt: skip


def _uses_between(history: History, path: bytes, first: int, last: int) -> int:
    table, inside = history.table, path.rstrip(b"/") + b"/"
    span = slice(*np.searchsorted(table.moments, [first, last]).tolist())
    # The last stands for records of no folder.
    is_below = np.array([*(one == path or one.startswith(inside) for one in table.paths), False], dtype=bool)
    is_use = np.isin(table.did[span], [NUMBER[one] for one in _USES])
    return int(table.numbers[span][is_below[table.folders[span]] & is_use].sum())


def _logging(history: History) -> Iterator[Sign]:
    table = history.table
    rows = np.flatnonzero((table.did == NUMBER[Did.LOGGING]) & (table.moments >= history.since))
    for row in rows.tolist():
        moment, login = int(table.moments[row]), table.logins[table.who[row]]
        detail = next((one.detail for one in history.fetch(login, Did.LOGGING, moment, moment + 1)), "")
        words = f"what is written down was changed{f': {detail}' if detail else ''}"
        yield Sign.of(history, SignKind.LOGGING_CHANGED, (moment, moment), 1, 1, words, login=login)


def _silence(history: History) -> Iterator[Sign]:
    """Yield where nothing at all was written for days, on a system where hardly a working day passes without."""
    moments, silent_days = history.table.moments, history.limits.silent_days
    if not len(moments):
        return
    ends = np.append(moments, history.now)
    for row in np.flatnonzero(np.diff(ends) >= silent_days * _DAY).tolist():
        first, last = int(ends[row]), int(ends[row + 1])
        past = moments[(moments > first - _WEEKS * 7 * _DAY) & (moments <= first)]
        days = len(np.unique(past // _DAY))
        if last < history.since or days < _ACTIVE_DAYS or len(past) < days * _USUAL_PER_DAY:
            continue
        number = (last - first) // _DAY
        is_over = row + 1 < len(moments)
        end = (
            f"until {moment_of(last).astimezone(history.zone):%Y-%m-%d %H:%M}"
            if is_over
            else "up to the last reading"
        )
        words = f"nothing at all was written for {number} days, {end}; before, {len(past) // days:,} records a day"
        yield Sign.of(history, SignKind.NOTHING_WRITTEN, (first, last), number, silent_days, words)
