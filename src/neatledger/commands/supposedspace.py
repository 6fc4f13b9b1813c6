"""Imagined changes to space: limits, bands, pools, kept versions and people who join, today and then."""

from __future__ import annotations

import argparse
from collections.abc import Sequence
from dataclasses import replace
from datetime import date

from neatledger.app import App
from neatledger.commands.asking import find_person, location_at
from neatledger.commands.holdings import History, find_folder, load_history, load_lines, load_views
from neatledger.commands.room import group_of_new, refusal_of
from neatledger.commands.versions import kept_versions
from neatledger.core.plan.limits import On
from neatledger.core.space.forecast import Trend, find_trend
from neatledger.core.space.limit_table import LimitStatus, LimitTarget
from neatledger.core.space.promises import promises
from neatledger.core.space.room import Room, find_room
from neatledger.core.space.sizes import parse_limit, show_size
from neatledger.core.space.supposing import (
    Supposed,
    suppose_band,
    suppose_join,
    suppose_limit,
    suppose_move,
    suppose_use,
)
from neatledger.errors import UnknownNameError, UsageError
from neatledger.ledger.space import SpaceView
from neatledger.reports.forecast import Outlook, full_words
from neatledger.reports.report import Report
from neatledger.reports.space import target_cell
from neatledger.reports.suppose import Beside, lines_beside, promises_beside, suppose_report
from neatledger.reports.versions import between

__all__ = ["suppose_space"]


def suppose_space(args: argparse.Namespace, app: App) -> Report:
    """Work out both, and return them side by side."""
    views = load_views(app)
    lines = load_lines(app, views)
    before = Supposed(app.plan, tuple(lines))
    for text in args.limit:
        before = _with_place(app, views, before, _pair(text, "--limit PLACE=SIZE")[0])
    after, sentences = _suppose(args, app, views, before)
    found = lines_beside(before.lines, after.lines)
    found += promises_beside(*(promises(each.plan, each.lines, app.today) for each in (before, after)))
    if args.room:
        found += _room_beside(app, args.room, before, after)
    found += _dates_beside(app, before, after)
    return suppose_report(found, sentences, after.notes, app.count.when)


def _suppose(
    args: argparse.Namespace, app: App, views: dict[str, SpaceView], supposed: Supposed
) -> tuple[Supposed, list[str]]:
    """Return the office with all that the words of the call suppose, and these in sentences; raises `UsageError`."""
    after, sentences = supposed, []
    for text in args.move:
        folder, pool = _pair(text, "--move FOLDER=POOL")
        address, view, row = find_folder(app, views, folder)
        after = suppose_move(after, address, pool, view.all_at(row)["occupied"])
        sentences.append(f"{folder} moved to the pool {pool}")
    for text in args.limit:
        key, limit = _pair(text, "--limit PLACE=SIZE")
        after = suppose_limit(after, _key_of(app, after.lines, key), _size(limit))
        sentences.append(f"a limit of {limit} on {key}")
    for text in args.band:
        name, limit = _pair(text, "--band BAND=SIZE")
        after = suppose_band(after, name, _size(limit), app.today)
        sentences.append(f"band {name} restated to {limit}")
    for text in args.join:
        system, number = _pair(text, "--join SYSTEM=N")
        after = suppose_join(after, system, _whole(number))
        sentences.append(f"{number} joining {system}")
    for text in args.keep:
        system, number = _pair(text, "--keep SYSTEM=N")
        after = _keep(app, views, after, system, _whole(number))
        sentences.append(f"{number} versions kept on {system}")
    if not sentences:
        raise UsageError("nothing is supposed", hint="see: neatledger suppose --help")
    return after, sentences


def _pair(text: str, form: str) -> tuple[str, str]:
    before, equals, after = text.rpartition("=")
    if not equals or not before or not after:
        raise UsageError(f"{text!r} says too little", hint=f"write {form}")
    return before, after.strip()


def _size(text: str) -> int | None:
    try:
        return parse_limit(text)
    except ValueError as error:
        raise UsageError(str(error)) from None


def _whole(text: str) -> int:
    if not text.isdigit():
        raise UsageError(f"{text!r} is no whole number")
    return int(text)


def _key_of(app: App, lines: Sequence[LimitStatus], key: str) -> str:
    """Return the key of a place as the lines have it: a pool, system:name, or a folder that may have no limit yet."""
    if any(line.target.key == key for line in lines):
        return key
    return str(app.address(key)) if ":" in key or "/" in key else key


def _with_place(app: App, views: dict[str, SpaceView], supposed: Supposed, key: str) -> Supposed:
    """Add a folder that no side limits yet to the places."""
    known = _key_of(app, supposed.lines, key)
    if "/" not in known or any(line.target.key == known for line in supposed.lines):
        return supposed
    address, view, row = find_folder(app, views, known)
    line = LimitStatus(LimitTarget.of_folder(address), view.at(row)[view.rules.measure])
    return replace(supposed, lines=(*supposed.lines, line))


def _keep(app: App, views: dict[str, SpaceView], supposed: Supposed, system: str, number: int) -> Supposed:
    if system not in views:
        raise UnknownNameError(f"no system is named {system!r}", hint=f"there are: {', '.join(views)}")
    freed = [each.freed or (0, 0) for each in kept_versions(app, views[system], number)]
    low, high = sum(each[0] for each in freed), sum(each[1] for each in freed)
    # Half way between the bounds stands for them; the bounds are told.
    amount = -(low + high) // 2
    word = (
        f"{number} versions kept on {system} would free {between(low, high)}"
        if high > 0
        else (f"{number} versions kept on {system} would cost {between(-high, -low)}")
    )
    return suppose_use(supposed, system, amount, f"{word}; {show_size(abs(amount))} is taken for it.")


def _room_beside(app: App, words: Sequence[str], before: Supposed, after: Supposed) -> list[Beside]:
    person, everywhere = find_person(app, words[0])
    address = app.address(words[1])
    place = location_at(app.reader(address.system), address)
    principals = everywhere.get(address.system, [])
    group = group_of_new(app, place, principals) if principals else ""
    refusal = refusal_of(app, place, principals, person)
    rooms = [
        find_room(each.plan, each.lines, person, place.address, group, refusal, app.today) for each in (before, after)
    ]
    today, then = map(_say_room, rooms)
    return [Beside("room", f"{person} in {place.address}", today, then)] if today != then else []


def _say_room(room: Room) -> str:
    return f"{show_size(room.left or 0)} ({room.stopping[0].what})" if room.stopping else "no limit known"


def _dates_beside(app: App, before: Supposed, after: Supposed) -> list[Beside]:
    """Return the days on which changed places are full, today and then."""
    known = {(line.target.on, line.target.key): line for line in before.lines}
    history = load_history(app)
    found = []
    for line in after.lines:
        was = known.get((line.target.on, line.target.key))
        is_new = was is None or (was.settings.limit, was.amount) != (line.settings.limit, line.amount)
        if was is None or not is_new or not line.settings.limit:
            continue
        used = history.used(was)
        today = Outlook(was, find_trend(used), len(used))
        then = Outlook(line, _trend_then(history, used, line, after), len(used))
        words = full_words(today), full_words(then)
        if words[0] != words[1]:
            found.append(Beside("full", target_cell(line), *words))
    return found


def _trend_then(history: History, used: list[tuple[date, int]], line: LimitStatus, after: Supposed) -> Trend | None:
    """Return the trend of a place as it would be: without the folders that leave it, with those that come."""
    name = line.target.name
    shift = after.shifts.get(name, 0) if line.target.on is On.POOL else 0
    amounts = dict(used)
    for folder, source, target in after.moved:
        if line.target.on is On.POOL and name in (source, target):
            place = LimitStatus(LimitTarget.of_folder(folder), None)
            sign = 1 if name == target else -1
            for day, held in history.used(place):
                if day in amounts:
                    amounts[day] += sign * held
            # What the folder holds now is in the history already.
            shift -= sign * _last_amount(history.used(place))
    return find_trend([(day, max(0, amount + shift)) for day, amount in amounts.items()])


def _last_amount(used: Sequence[tuple[date, int]]) -> int:
    """Return the last amount of a history, nought for none."""
    return used[-1][1] if used else 0
