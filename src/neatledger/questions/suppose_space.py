"""What another limit, band, pool, number of kept versions, or more people would change: today and then."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field, replace
from datetime import date

from neatledger.core.plan.limits import Limit, On
from neatledger.core.space.forecast import Outlook, Trend, find_trend
from neatledger.core.space.limit_table import LimitStatus, LimitTarget
from neatledger.core.space.promises import Promise, promises
from neatledger.core.space.room import Room
from neatledger.core.space.sizes import show_between, show_limit, show_size
from neatledger.core.space.supposing import (
    Supposed,
    suppose_band,
    suppose_join,
    suppose_limit,
    suppose_move,
    suppose_use,
)
from neatledger.errors import UsageError
from neatledger.ledger.space import SpaceView
from neatledger.ledger.spread import spread_versions
from neatledger.questions import limits
from neatledger.questions.limits import History, load_history
from neatledger.questions.office import Office
from neatledger.questions.room import RoomAsker
from neatledger.questions.versions import kept_versions
from neatledger.questions.views import find_folder, load_views

__all__ = ["Supposition", "TodayAndThen", "ask", "outlooks_of"]


@dataclass(frozen=True, slots=True)
class Supposition:
    """What is supposed, all of it together: each by the name of what it is put on.

    `limits` are by place, `bands` by band, `joining` by system (people), `moves` by folder (a pool), `versions` by
    system (how many are kept); `room` names a person and a folder whose room is asked for beside.
    """

    limits: Sequence[tuple[str, Limit]] = ()
    bands: Sequence[tuple[str, Limit]] = ()
    joining: Sequence[tuple[str, int]] = ()
    moves: Sequence[tuple[str, str]] = ()
    versions: Sequence[tuple[str, int]] = ()
    room: tuple[str, str] | None = None


@dataclass(frozen=True, slots=True)
class TodayAndThen:
    """The office's space as it is, and as it would be.

    `outlooks` are those of the places that change, before and after; `rooms` likewise; `sentences` say what is
    supposed.
    """

    before: Supposed
    after: Supposed
    promises: tuple[list[Promise], list[Promise]]
    outlooks: list[tuple[Outlook, Outlook]]
    rooms: tuple[Room, Room] | None
    sentences: list[str] = field(default_factory=list)


def ask(office: Office, supposed: Supposition, *, is_of_plan: bool = False) -> TodayAndThen:
    """Return both, side by side; raises `UsageError` where nothing is supposed, and `UnknownNameError`."""
    views = load_views(office)
    before = Supposed(office.plan, tuple(limits.ask(office, views, is_of_plan=is_of_plan)))
    for key, _ in supposed.limits:
        before = _with_folder(office, views, before, key)
    sentences: list[str] = []
    after = before
    for step, sentence in _steps(office, views, before, supposed):
        after = step
        sentences.append(sentence)
    if not sentences:
        raise UsageError("nothing is supposed", hint="see: neatledger suppose --help")
    promised = (
        promises(before.plan, before.statuses, office.today),
        promises(after.plan, after.statuses, office.today),
    )
    rooms = None
    if supposed.room is not None:
        asker = RoomAsker(office, supposed.room[0], office.address(supposed.room[1]))
        rooms = asker.room(before.plan, before.statuses), asker.room(after.plan, after.statuses)
    return TodayAndThen(before, after, promised, _outlooks(load_history(office), before, after), rooms, sentences)


def _steps(
    office: Office, views: dict[str, SpaceView], after: Supposed, supposed: Supposition
) -> Iterator[tuple[Supposed, str]]:
    """Yield the office after one supposition more, with that in words."""
    for folder, pool in supposed.moves:
        found = find_folder(office, views, folder)
        is_there = any(one.target.on is On.POOL and one.target.name == pool for one in after.statuses)
        after = suppose_move(after, found.address, pool, found.view.all_at(found.row).occupied)
        yield after, f"{folder} moved to the {'' if is_there else 'new '}disk {pool}"
    for key, limit in supposed.limits:
        after = suppose_limit(after, _key_of(office, after.statuses, key), limit)
        yield after, f"a limit of {show_limit(limit)} on {key}"
    for called, limit in supposed.bands:
        name = office.find_band(called)
        after = suppose_band(after, name, limit, office.today)
        yield after, f"band {name} restated to {show_limit(limit)}"
    for name, number in supposed.joining:
        system = office.find_system(name)
        after = suppose_join(after, system, number)
        yield after, f"{number} joining {system}"
    for name, number in supposed.versions:
        system = office.find_system(name)
        after = _keep(office, views, after, system, number)
        yield after, f"{number} versions kept on {system}"


def _key_of(office: Office, statuses: Sequence[LimitStatus], key: str) -> str:
    """Return the key of a place as the table has it: a pool, system:name, or a folder that may have no limit yet."""
    if any(status.target.key == key for status in statuses):
        return key
    return str(office.address(key)) if ":" in key or "/" in key else key


def _with_folder(office: Office, views: dict[str, SpaceView], supposed: Supposed, key: str) -> Supposed:
    """Add a folder that no side limits yet to the places."""
    known = _key_of(office, supposed.statuses, key)
    if "/" not in known or any(status.target.key == known for status in supposed.statuses):
        return supposed
    found = find_folder(office, views, known)
    used = found.view.at(found.row).measured(found.view.rules.measure)
    status = LimitStatus(LimitTarget.of_folder(found.address), used)
    return replace(supposed, statuses=(*supposed.statuses, status))


def _keep(office: Office, views: dict[str, SpaceView], supposed: Supposed, system: str, number: int) -> Supposed:
    office.reader(system)
    freed = {each.kind: each.freed or (0, 0) for each in kept_versions(office, views[system], {"": number})}
    low, high = sum(each[0] for each in freed.values()), sum(each[1] for each in freed.values())
    # Half way between the bounds stands for them; the bounds are said.
    amounts = {kind: -(least + most) // 2 for kind, (least, most) in freed.items()}
    does = f"free {show_between(low, high)}" if high > 0 else f"cost {show_between(-high, -low)}"
    message = f"{number} versions kept on {system} would {does}"
    message += f"; {show_size(abs(sum(amounts.values())))} is taken for it." if low != high else "."
    where = spread_versions(views[system], supposed.plan, supposed.statuses, amounts)
    return suppose_use(supposed, where, message)


def outlooks_of(
    office: Office, statuses: Sequence[LimitStatus], amounts: Sequence[int]
) -> list[tuple[Outlook, Outlook]]:
    """Return the outlooks of places that would use more or less at once (bytes, one for each), today and then."""
    before = Supposed(office.plan, tuple(statuses))
    return _outlooks(load_history(office), before, suppose_use(before, amounts, ""))


def _outlooks(history: History, before: Supposed, after: Supposed) -> list[tuple[Outlook, Outlook]]:
    """Return the outlooks of changed places, today and then."""
    known = {(status.target.on, status.target.key): status for status in before.statuses}
    found = []
    for status in after.statuses:
        was = known.get((status.target.on, status.target.key))
        if was is None or not status.settings.limit:
            continue
        if (was.settings.limit, was.amount) == (status.settings.limit, status.amount):
            continue
        used = tuple(history.used(was))
        trend = _trend_then(history, used, status, after)
        found.append((Outlook(was, find_trend(used), used), Outlook(status, trend, used)))
    return found


def _trend_then(
    history: History, used: Sequence[tuple[date, int]], status: LimitStatus, after: Supposed
) -> Trend | None:
    """Return the trend of a place as it would be: without the folders that leave it, with those that come."""
    name, is_pool = status.target.name, status.target.on is On.POOL
    shift = after.shifts.get(name, 0) if is_pool else 0
    amounts = dict(used)
    for folder, source, target in after.moved:
        if is_pool and name in (source, target):
            sign = 1 if name == target else -1
            of_folder = history.used(LimitStatus(LimitTarget.of_folder(folder), None))
            for day, held in of_folder:
                if day in amounts:
                    amounts[day] += sign * held
            # What the folder holds now is in the history already.
            shift -= sign * (of_folder[-1][1] if of_folder else 0)
    return find_trend([(day, max(0, amount + shift)) for day, amount in amounts.items()])
