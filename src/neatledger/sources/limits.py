"""The limits that a system itself has, from wherever the plan says that it tells them."""

from __future__ import annotations

import os
from collections.abc import Iterator

from neatledger.core.plan.limits import Limit, On
from neatledger.core.space.sizes import parse_limit, parse_size
from neatledger.core.survey.limits import FoundLimit
from neatledger.core.survey.survey import Survey
from neatledger.core.tree.columns import NotSeen
from neatledger.errors import SourceError
from neatledger.sources.contract import SourceContext
from neatledger.sources.csvtables import Cells, read_table

__all__ = ["add_limits", "read_limits"]


def add_limits(survey: Survey, context: SourceContext) -> None:
    """Add to a survey the limits of `limits-file` and `figures` in the settings; what cannot be read is noted.

    Raises `SourceError` where the file of limits cannot be read at all.
    """
    if "limits-file" in context.settings or "figures" in context.settings:
        found = read_limits(context, survey.not_seen)
        survey.facts["limits"] = [*survey.facts.get("limits", []), *(one.to_facts() for one in found)]


def read_limits(context: SourceContext, not_seen: list[NotSeen]) -> list[FoundLimit]:
    """Return the limits of `limits-file` and `figures` in the settings; raises as `add_limits`."""
    settings = context.settings
    found = list(_from_file(context, not_seen)) if "limits-file" in settings else []
    for setting in settings.get("figures", ()):
        from neatledger.sources.davfigures import read_figures

        try:
            found.append(read_figures(context, setting))
        except SourceError as error:
            not_seen.append(NotSeen(os.fsencode(setting["folder"]), str(error)))
    return found


def _from_file(context: SourceContext, not_seen: list[NotSeen]) -> Iterator[FoundLimit]:
    name = str(context.settings["limits-file"])
    for line, cells in read_table(context, "limits", name, ("on", "name", "limit"), not_seen):
        try:
            yield _limit(cells, name)
        except ValueError as error:
            where = f"{context.office_dir / name}:{line}"
            not_seen.append(NotSeen.of_source(where, f"a row that cannot be read: {error}"))


def _limit(cells: Cells, name: str) -> FoundLimit:
    words = {on.value: on for on in On}
    if cells["on"] not in words:
        raise ValueError(f"on {cells['on']!r} is none of {', '.join(words)}")
    rule = cells["rule"] or "enforced"
    if rule not in ("enforced", "watched"):
        raise ValueError(f"rule {rule!r} is neither enforced nor watched")
    warn = tuple(sorted(int(word.rstrip("%")) for word in cells["warn"].replace(",", " ").split()))
    on = words[cells["on"]]
    used = _size(cells["used"], "used") if cells["used"] else None
    return FoundLimit(
        on,
        "/" + cells["name"].strip("/") if on is On.FOLDER else cells["name"],
        _size(cells["limit"], "limit"),
        rule == "enforced",
        cells.number("grace-days") if cells["grace-days"] else None,
        warn,
        used if isinstance(used, int) else None,
        by=name,
        items=cells.number("files") if cells["files"] else None,
        items_used=cells.number("files-used") if cells["files-used"] else None,
    )


def _size(text: str, column: str) -> Limit:
    """Return a size with its unit, bytes where it has none, or no limit in so many words."""
    if not text.strip():
        raise ValueError(f"{column} is empty: write bytes, a size, or: no limit")
    if text.strip().isdigit():
        return parse_size(f"{text.strip()} B")
    return parse_limit(text)
