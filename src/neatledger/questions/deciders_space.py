"""What somebody who decides has to know of space: what stops work, what to watch, and where there is room."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from datetime import date

from neatledger.core.plan.limits import UNLIMITED, On
from neatledger.core.space.forecast import Outlook
from neatledger.core.space.limit_table import LimitStatus
from neatledger.core.space.sizes import show_limit, show_share, show_size
from neatledger.core.space.when import YEARS, Meeting, When
from neatledger.counting import count_of
from neatledger.questions.deciders import day_words, name_of_place
from neatledger.questions.freeing import is_soon
from neatledger.questions.office import Office

__all__ = ["ask"]


def ask(office: Office, statuses: Sequence[LimitStatus], outlooks: Sequence[Outlook]) -> list[str]:
    """Return sentences, those that ask for something first; each begins with what it asks: act, watch, room."""
    full = {(outlook.status.target.on, outlook.status.target.key): outlook for outlook in outlooks}
    act: list[str] = []
    watch: list[str] = []
    room: list[str] = []
    for status in statuses:
        limit = status.settings.limit
        if not isinstance(limit, int):
            continue
        outlook = full.get((status.target.on, status.target.key))
        when = outlook.trend.meets(limit) if outlook is not None and outlook.trend else None
        name = _name(office, status)
        if not status.is_counted:
            watch.append(f"What is used of {name} is unknown.")
        elif status.is_over or limit == 0:
            act.append(_over(office, status, limit, name))
        elif status.target.on is On.POOL and outlook is not None and is_soon(office, outlook, limit):
            assert when is not None, "only what has a trend is full on a day"
            act.append(_full_soon(status, limit, name, when, outlook))
        elif status.warned is not None or status.items_warned is not None:
            watch += _nearly_full(status, limit, name)
        elif status.target.on is On.POOL:
            room.append(_room(limit - status.amount, name, when))
    sorts = (("Act", act), ("Watch", watch), ("Room", room))
    return [f"{word}. {text[:1].upper()}{text[1:]}" for word, sentences in sorts for text in sentences]


def _name(office: Office, status: LimitStatus) -> str:
    target = status.target
    if target.on is On.POOL:
        return f"the disk of {name_of_place(office, target.name)}"
    if target.on is On.FOLDER:
        home = _owner_of_home(office, status)
        return f"the home of {home}" if home else name_of_place(office, target.address)
    if target.on is On.PERSON:
        planned = office.plan.people.get(target.name)
        return f"what {planned.name if planned else target.name} stores on {name_of_place(office, target.system)}"
    return f"what the group {target.name} stores on {name_of_place(office, target.system)}"


def _owner_of_home(office: Office, status: LimitStatus) -> str:
    """Return whose home a folder is, by the logins of the plan; nothing for any other folder."""
    planned = office.plan.systems.get(status.target.system)
    above, _, login = status.target.name.rpartition("/")
    if planned is None or above.encode("utf-8", "surrogateescape") not in planned.homes:
        return ""
    people = [one.name for one in office.plan.people.values() if login in one.accounts.get(status.target.system, ())]
    return people[0] if len(people) == 1 else login


def _over(office: Office, status: LimitStatus, limit: int, name: str) -> str:
    settings, planned = status.settings, status.plan_settings
    if planned is not None and planned.limit != settings.limit and status.found_settings is not None:
        means = "has no limit" if planned.limit is UNLIMITED else f"allows {show_limit(planned.limit)}"
        return f"{name}: the system allows {show_limit(settings.limit)}; the plan {means}. Set the limit right."
    over = f"{name} is over its limit by {show_size(status.amount - limit)}"
    if settings.enforced:
        return f"{over}: nothing more can be saved there."
    left = status.grace_left(office.today)
    if left is None:
        return f"{over}; saving goes on, for it only warns."
    until = f"{count_of(left, 'day')} until nothing" if left > 0 else "nothing"
    return f"{over}; {until} more can be saved there."


def _full_soon(status: LimitStatus, limit: int, name: str, when: When, outlook: Outlook) -> str:
    assert when.day is not None and outlook.trend is not None
    growth = f"growing {show_size(round(outlook.trend.slope * 7))} a week"
    left = f"{show_size(max(0, limit - status.amount))} of {show_size(limit)} left, {growth}"
    return f"{name} is full about {day_words(when.day)}{_between(when.earliest, when.latest)}: {left}."


def _between(earliest: date | None, latest: date | None) -> str:
    return f" (between {day_words(earliest)} and {day_words(latest)})" if earliest and latest else ""


def _nearly_full(status: LimitStatus, limit: int, name: str) -> Iterator[str]:
    if status.warned is not None:
        yield f"{name} is {show_share(status.amount, limit)} full."
    if status.items_warned is not None and status.items_left is not None:
        yield f"{name} has room for {count_of(status.items_left, 'file')} more."


def _room(left: int, name: str, when: When | None) -> str:
    if when is None or when.meeting in (Meeting.TOO_FEW, Meeting.UNEVEN):
        return f"{name} has {show_size(left)} left; when it will be full is not known."
    if when.meeting is Meeting.NOT_WITHIN:
        return f"{name} has {show_size(left)} left and will not be full within {YEARS} years."
    day = f"{day_words(when.day)} {when.day.year}" if when.day else "a day that is not known"
    return f"{name} has {show_size(left)} left and will be full about {day}."
