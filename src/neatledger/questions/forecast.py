"""When warnings, limits and pools are met."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from datetime import date

from neatledger.core.plan.limits import On
from neatledger.core.space.forecast import Outlook, find_trend
from neatledger.core.space.limit_table import LimitStatus, LimitTarget
from neatledger.questions import limits
from neatledger.questions.limits import History, load_history
from neatledger.questions.office import Office
from neatledger.questions.views import find_folder, load_views

__all__ = ["ask", "look_ahead"]


def ask(
    office: Office,
    place: str | None = None,
    *,
    is_of_plan: bool = False,
    progress: Callable[[int], None] = lambda _: None,
) -> list[Outlook]:
    """Return the outlook of all limited places, or of a folder, a person or a pool; raises `UnknownNameError`."""
    statuses = limits.ask(office, load_views(office), is_of_plan=is_of_plan)
    chosen = _choose(office, statuses, place) if place else [each for each in statuses if each.settings.limit]
    return look_ahead(chosen, load_history(office), progress)


def look_ahead(
    statuses: Sequence[LimitStatus], history: History, progress: Callable[[int], None] = lambda _: None
) -> list[Outlook]:
    """Return the outlook of every place from its history."""
    found = []
    for status in statuses:
        used: list[tuple[date, int]] = history.used(status)
        found.append(Outlook(status, find_trend(used), tuple(used)))
        progress(len(used))
    return found


def _choose(office: Office, statuses: Sequence[LimitStatus], name: str) -> list[LimitStatus]:
    pools = [each for each in statuses if each.target.on is On.POOL and each.target.name == name]
    if pools:
        return pools
    if ":" not in name and "/" not in name:
        person = office.find_person(name).id
        return [each for each in statuses if each.target.on is On.PERSON and each.target.name == person]
    found = find_folder(office, load_views(office), name)
    chosen = [each for each in statuses if each.target.on is On.FOLDER and each.target.address == found.address]
    # A folder without a limit has a growth all the same.
    used = found.view.at(found.row).measured(found.view.rules.measure)
    return chosen or [LimitStatus(LimitTarget.of_folder(found.address), used)]
