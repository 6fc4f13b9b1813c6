"""Bands: who has which, and in what they differ; and what restating one does, before it is done."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from neatledger.core.plan.limits import FIELDS, UNLIMITED, Band, On, Settings
from neatledger.core.space.bands import Outcome, Restating
from neatledger.core.space.limit_table import LimitStatus
from neatledger.core.space.promises import Promise
from neatledger.core.space.sizes import show_field, show_limit, show_size
from neatledger.reports.assurances import assured
from neatledger.reports.report import Column, Pointer, Report, Row, Show, Size, count_of, day_cell
from neatledger.reports.space import differs_of, limit_cell, target_cell

__all__ = ["bands_report", "restating_report"]

_COLUMNS = (
    Column("band", "BAND"),
    Column("place", "PLACE", cuts=True),
    Column("differs_words", "DIFFERS", Show.PEOPLE, wraps=True),
    Column("differs", "DIFFERS IN", Show.MACHINE),
    Column("since", "SINCE", spare=True),
    Column("because", "WHY", wraps=True, spare=True),
    Column("limit_bytes", "LIMIT", Show.MACHINE, number=True),
    Column("found", "FOUND", Show.MACHINE),
    Column("used_bytes", "USED", Show.MACHINE),
)


def _found_word(line: LimitStatus) -> str:
    """Say whether the system has what the plan says."""
    planned, found = line.plan_settings, line.found_settings
    if found is None:
        return _NOT_TOLD
    if planned is None:
        return show_limit(found.limit)
    if (found.limit, found.enforced) == (planned.limit, planned.enforced):
        return _AS_PLANNED
    differs = [name for name in ("limit", "enforced") if getattr(found, name) != getattr(planned, name)]
    return "; ".join(show_field(name, getattr(found, name)) for name in differs)


_AS_PLANNED, _NOT_TOLD = "as planned", "not told"


def bands_report(
    bands: Mapping[str, Band], lines: Sequence[LimitStatus], name: str | None, *, show_all: bool
) -> Report:
    """List the places by band: exceptions and those the systems have otherwise first, then those without one."""
    chosen = [line for line in lines if _is_limited(line) and name in (None, _band_of(line))]
    chosen.sort(key=_in_order)
    rows = [_band_row(line) for line in chosen]
    banded = sum(row["band"] != "-" for row in rows)
    exceptions = sum(bool(row["differs"]) for row in rows)
    folded = [
        row
        for row in rows
        if show_all or row["band"] == "-" or row["differs"] or row["found"] not in (_AS_PLANNED, _NOT_TOLD)
    ]
    hidden = len(rows) - len(folded)
    wrong = sum(row["found"] not in (_AS_PLANNED, _NOT_TOLD) for row in rows)
    message = f"{count_of(exceptions, 'exception')}, {len(rows) - banded:,} without a band"
    message += f"; {wrong:,} on the system differ from the plan" if wrong else ""
    notes: list[str] = []
    for band in bands.values():
        if name in (None, band.name):
            words = _say(Settings.of(band.stated)).replace("enforced", "blocks").replace("watched", "only warns")
            notes.append(f"band {band.name}: {words}.")
    untold = sum(row["found"] == _NOT_TOLD for row in rows)
    otherwise = "neither the plan nor the systems have any limit here"
    if rows:
        otherwise = f"none differs from its band; of {untold:,} the system reports no limit"
    said = assured("bands", bool(rows) and not folded and not untold, otherwise)
    headline = f"{count_of(len(bands), 'band')} on {count_of(banded, 'place')}: {message}."
    report = Report("bands", headline, _COLUMNS, rows, notes, said.text, said.or_rows(folded), said.is_assured)
    if hidden:
        report.pointers = [Pointer(f"{count_of(hidden, 'more place')} that do not differ", "limits -a")]
    return report


def _differs(line: LimitStatus, exceptions: Sequence[str]) -> str:
    """Say in what a place differs from its band, and its system from the plan; a place that does not: its limit."""
    words = list(exceptions)
    found = _found_word(line)
    if found not in (_AS_PLANNED, _NOT_TOLD):
        planned = show_limit(line.plan_settings.limit) if line.plan_settings is not None else "nothing"
        words.append(f"the system has {found.replace('watched', 'a limit that only warns')}; planned: {planned}")
    if not words and line.plan_settings is not None:
        return "" if _band_of(line) != "-" else show_limit(line.plan_settings.limit)
    return "; ".join(words)


def _is_limited(line: LimitStatus) -> bool:
    # A system that tells only what is used has no limit there.
    has_limit = line.found_settings is not None and line.found_settings.limit is not UNLIMITED
    return line.target.on is not On.POOL and (line.planned is not None or has_limit)


def _band_of(line: LimitStatus) -> str:
    return line.planned.band.name if line.planned and line.planned.band else "-"


def _in_order(line: LimitStatus) -> tuple[bool, str, bool, str]:
    return _band_of(line) == "-", _band_of(line), not differs_of(line.planned), str(target_cell(line))


def _band_row(line: LimitStatus) -> Row:
    placed = line.planned
    differs = differs_of(placed)
    return {
        "band": _band_of(line),
        "place": target_cell(line),
        "differs": differs,
        "differs_words": _differs(line, differs),
        "since": day_cell(placed.since if placed else None),
        "because": placed.because if placed else "",
        "limit_bytes": limit_cell(line.plan_settings) if placed else "-",
        "found": _found_word(line),
        "used_bytes": Size(line.amount),
    }


def _say(settings: Settings) -> str:
    return ", ".join(
        show_field(name, getattr(settings, name))
        for name in FIELDS
        if name != "grace_days" or settings.grace_days is not None
    )


_MOVES = (
    Column("place", "PLACE", cuts=True),
    Column("used_bytes", "USED", number=True),
    Column("before_bytes", "BEFORE", number=True),
    Column("after_bytes", "AFTER", number=True),
    Column("band_bytes", "BAND SAYS", number=True),
    Column("below_use", "BELOW USE"),
    Column("outcome", "WHAT BECOMES OF IT", wraps=True),
)
_ORDER = (Outcome.KEPT, Outcome.STAYS, Outcome.BROUGHT_BACK, Outcome.ENDS, Outcome.LATER, Outcome.MOVES, Outcome.SAME)


def restating_report(
    found: Restating, before: Sequence[Promise], after: Sequence[Promise], *, is_written: bool
) -> Report:
    """Show what restating a band does: places, promises, limits below use, and exceptions that end."""
    moves = sorted(found.moves, key=lambda move: (_ORDER.index(move.outcome), move.status.target.key))
    rows: list[Row] = [
        {
            "place": target_cell(move.status),
            "used_bytes": Size(move.status.amount),
            "before_bytes": limit_cell(move.before),
            "after_bytes": limit_cell(move.after),
            "band_bytes": limit_cell(move.on_band),
            "below_use": move.falls_below,
            "outcome": move.outcome.value,
        }
        for move in moves
    ]
    number = {outcome: sum(1 for move in moves if move.outcome is outcome) for outcome in Outcome}
    changed = {
        name: value for name, value in found.after.stated.items() if found.before.stated.get(name, ...) != value
    }
    what = ", ".join(show_field(name, value) for name, value in changed.items()) or "nothing new"
    headline = f"Band {found.after.name}, {what}: {count_of(number[Outcome.MOVES], 'place')} would move"
    headline += f"; of its exceptions {number[Outcome.STAYS]} stay and {len(found.dropped)} end"
    if found.kept:
        headline += f"; {count_of(len(found.kept), 'place')} would keep what they have"
    headline += "."
    if is_written:
        headline = headline.replace("would move", "moved").replace("would keep", "keep")
    notes = _restating_notes(found, before, after, is_written=is_written)
    return Report("bands", headline, _MOVES, rows, notes, "no place has this band")


def _restating_notes(
    found: Restating, before: Sequence[Promise], after: Sequence[Promise], *, is_written: bool
) -> list[str]:
    """Say what restating does to promises, what stays below use, and whether anything was changed."""
    moves = found.moves
    notes = [
        f"disk {now.pool}: promised {show_size(now.promised)} before, {show_size(then.promised)} after"
        + (
            f", of {show_size(then.size)}{' - overcommitted' if then.beyond else ''}."
            if then.size is not None
            else "."
        )
        for now, then in zip(before, after, strict=True)
        if now.limits or then.limits
    ]
    if any(move.outcome is Outcome.KEPT for move in moves):
        notes.append("A limit is not lowered below what is used, unless with --allow below-use.")
    below = sum(
        1
        for move in moves
        if isinstance(move.after.limit, int)
        and move.status.amount > move.after.limit
        and move.outcome in (Outcome.MOVES, Outcome.BROUGHT_BACK)
    )
    notes += [f"{count_of(below, 'limit')} would fall below what is used."] if below else []
    notes.append(
        "Written into office.yaml; the systems are as they were."
        if is_written
        else "Nothing is changed yet: --write puts it into office.yaml."
    )
    return notes
