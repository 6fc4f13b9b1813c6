"""The facts of the office's space, as checks want them."""

from __future__ import annotations

from collections.abc import Callable, Mapping

from neatledger.app import App
from neatledger.commands.holdings import History, load_history, load_lines, load_views
from neatledger.commands.kinds import find_barred
from neatledger.commands.versions import bin_bytes, kept_versions
from neatledger.core.checks.contract import HomeUse, SpaceFacts
from neatledger.core.space.limit_table import LimitStatus
from neatledger.core.space.promises import promises
from neatledger.core.space.when import Meeting, When
from neatledger.core.tree.address import Address
from neatledger.ledger.homes import find_homes
from neatledger.ledger.space import SpaceView

__all__ = ["load_space"]


def load_space(app: App, views: Mapping[str, SpaceView] | None = None, history: History | None = None) -> SpaceFacts:
    """Read what checks ask of space; what was read already need not be read again."""
    views = views or load_views(app)
    lines = load_lines(app, views)
    return SpaceFacts(
        lines=lines,
        promises=promises(app.plan, lines, app.today),
        full_on=_full_on(app, history),
        kept={name: kept_versions(app, view, None) for name, view in views.items() if view.rules.versions},
        bins={name: bin_bytes(view) for name, view in views.items()},
        held={name: view.all_at(0)["occupied"] for name, view in views.items()},
        barred=[each for view in views.values() for each in find_barred(app, view)],
        homes=[home for view in views.values() for home in _homes(app, view)],
        twice=[pair for view in views.values() for pair in view.seen_twice()],
    )


def _full_on(app: App, history: History | None) -> Callable[[LimitStatus], When]:
    histories = [] if history is None else [history]

    def full_on(line: LimitStatus) -> When:
        from neatledger.core.space.forecast import find_trend

        limit = line.settings.limit
        if limit is None or line.amount >= limit:
            return When(Meeting.NOT_WITHIN if limit is None else Meeting.ALREADY)
        if not histories:
            histories.append(load_history(app))
        trend = find_trend(histories[0].used(line))
        return trend.meets(limit) if trend else When(Meeting.TOO_FEW)

    return full_on


def _homes(app: App, view: SpaceView) -> list[HomeUse]:
    system = app.plan.systems.get(view.name)
    if system is None:
        return []
    found = []
    for home in find_homes(view.reader, system):
        row = view.row_of(home.address.path)
        if row is not None:
            figures = view.at(row)
            own = view.reader.folder_bytes(row)
            found.append(HomeUse(Address(view.name, home.address.path), figures["files"], figures["bytes"] - own))
    return found
