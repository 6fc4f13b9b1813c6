"""When warnings, limits and pools are met: growth with its interval, dates, and what broke the run."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import date, timedelta

from neatledger.core.space.forecast import FEWEST, RATE, Outlook, Trend
from neatledger.core.space.growths import Manner
from neatledger.core.space.limit_table import LimitStatus
from neatledger.core.space.sizes import show_size
from neatledger.core.space.when import YEARS, Meeting, When
from neatledger.reports.assurances import assured
from neatledger.reports.report import Aside, Column, MachineNote, Report, Row, Show, Size, count_of, day_cell
from neatledger.reports.space import limit_cell, place_words, target_cell

__all__ = [
    "Growth",
    "ahead_of",
    "breaks_of",
    "forecast_report",
    "growth_of",
    "growth_words",
    "levels_of",
    "show_growth",
    "show_when",
]

_COLUMNS = (
    Column("place", "PLACE", cuts=True),
    Column("used_bytes", "USED", number=True),
    Column("limit_bytes", "LIMIT", number=True),
    Column("growth", "GROWTH A WEEK", Show.PEOPLE, number=True),
    Column("next", "NEXT WARNING", Show.PEOPLE, spare=True),
    Column("full", "FULL", Show.PEOPLE),
    Column("between", "BETWEEN", Show.PEOPLE, wraps=True, spare=True),
    Column("weekly_growth_bytes", "", Show.MACHINE),
    Column("weekly_growth_low_bytes", "", Show.MACHINE),
    Column("weekly_growth_high_bytes", "", Show.MACHINE),
    Column("level", "", Show.MACHINE),
    Column("level_bytes", "", Show.MACHINE),
    Column("meets", "", Show.MACHINE),
    Column("meets_on", "", Show.MACHINE),
    Column("earliest", "", Show.MACHINE),
    Column("latest", "", Show.MACHINE),
    Column("grows", "", Show.MACHINE),
    Column("may_grow", "", Show.MACHINE),
    Column("counts", "", Show.MACHINE),
    Column("breaks", "", Show.MACHINE),
)


@dataclass(frozen=True, slots=True)
class Growth:
    """What a growth figure shows of one place.

    `history` has days and bytes; `ahead` days with the expected bytes and the bounds of the interval;
    `levels` limits and warn levels in bytes with their names; `breaks` days on which the amount jumped.
    """

    name: str
    history: Sequence[tuple[date, int]]
    ahead: Sequence[tuple[date, float, float, float]]
    levels: Sequence[tuple[str, int]]
    breaks: Sequence[tuple[date, str]]
    words: str


def show_growth(trend: Trend | None) -> str:
    """Show the growth of a week with the bounds of its interval."""
    if trend is None:
        return "-"
    middle, low, high = (round(each * 7) for each in (trend.slope, trend.low, trend.high))
    half = max(high - middle, middle - low)
    return f"{show_size(middle)} ± {show_size(half)}"


def show_when(when: When) -> str:
    """Show when a level is met."""
    return when.day.isoformat() if when.meeting is Meeting.ON and when.day else when.meeting.value


def _between(when: When) -> str:
    if when.meeting in (Meeting.ALREADY, Meeting.TOO_FEW):
        return ""
    if when.earliest is None:
        return ""
    return f"{when.earliest} and {when.latest or 'never'}" if when.latest else f"{when.earliest} or much later"


def levels_of(line: LimitStatus) -> list[tuple[str, int]]:
    """Return the warn levels and the limit of a place in bytes, the lowest first."""
    limit = line.settings.limit
    if not isinstance(limit, int):
        return []
    return [*((f"{level} %", level * limit // 100) for level, _ in line.settings.warn), ("limit", limit)]


def _meets(outlook: Outlook, level: int) -> When:
    if outlook.status.amount >= level:
        return When(Meeting.ALREADY)
    return outlook.trend.meets(level) if outlook.trend else When(Meeting.TOO_FEW)


def breaks_of(trend: Trend | None) -> list[str]:
    """Say what broke the run of a place, where it is worth saying: a fiftieth of what is used, or more."""
    if trend is None:
        return []
    parts = [
        f"{show_size(abs(each.amount))} {'came' if each.amount > 0 else 'went'} at once by {each.day}"
        for each in trend.breaks
        if abs(each.amount) * 50 >= trend.amount
    ]
    parts += ways_of(trend)
    if abs(trend.stands_out) * 50 >= trend.amount and trend.stands_out:
        more = "more" if trend.stands_out > 0 else "less"
        parts.append(
            f"the last count has {show_size(abs(trend.stands_out))} {more} than expected: the next will tell"
        )
    return parts


def _remarks(outlooks: Sequence[Outlook], shown: Sequence[Outlook]) -> list[str]:
    """Say what is to be known of each place's growth; what is so of several, once."""
    said: dict[tuple[str, bool], list[str]] = {}
    for outlook in outlooks:
        parts = breaks_of(outlook.trend)
        if parts:
            said.setdefault(("; ".join(parts), outlook in shown), []).append(outlook.status.target.key)
    notes = []
    for (message, is_shown), names in said.items():
        more = f" and {len(names) - _FEW:,} more" if len(names) > _FEW else ""
        note = f"{', '.join(names[:_FEW])}{more}: {message}."
        notes.append(note if is_shown else MachineNote(note))
    trend = outlooks[0].trend if len(outlooks) == 1 else None
    if trend is not None and trend.ratio is not None:
        # Why it is seen so, where one place is asked for.
        better, times = (Manner.LUMPS, trend.ratio) if trend.ratio > 1 else (Manner.STEADY, 1 / trend.ratio)
        other = "a line" if better is Manner.LUMPS else "the average of all growth"
        best = "the average of all growth" if better is Manner.LUMPS else "a line"
        notes.append(f"Tried on its own past, {other} would have been {times:.1f} times as far off as {best}.")
    return notes


_FEW = 3


def ways_of(trend: Trend) -> list[str]:
    """Say how a place grows where it is not plainly steady, and how else it may grow."""
    parts = []
    if trend.manner is Manner.LUMPS:
        parts.append("it grows in bursts; the average of all of them is used")
    if trend.changed:
        parts.append(f"its growth changed on {trend.changed}; only what came since is used")
    if trend.others:
        others = [manner.value for manner in dict.fromkeys(trend.others)]
        parts.append(f"it may also grow {' or '.join(others)}; the range allows for that")
    return parts


def forecast_report(outlooks: Sequence[Outlook], when: str, *, show_all: bool) -> Report:
    """List when each level is met, the soonest first: a row a level, and for people a row a place."""
    everyone = sorted(outlooks, key=_soonest)
    ordered = everyone if show_all else [each for each in everyone if _is_coming(each)]
    rows: list[Row] = []
    for outlook in everyone:
        levels = levels_of(outlook.status)
        rows += [_row(outlook, name, level) for name, level in levels] or [_row(outlook, "", None)]
    folded = [_people_row(outlook) for outlook in ordered]
    known = [outlook for outlook in outlooks if outlook.trend]
    soon = [each for each in everyone if levels_of(each.status) and _full(each).meeting is Meeting.ON]
    full = [each for each in everyone if levels_of(each.status) and _full(each).meeting is Meeting.ALREADY]
    unsure = [each for each in everyone if levels_of(each.status) and _full(each).meeting not in _CERTAIN]
    words = [f"{count_of(len(full), 'place')} {'is' if len(full) == 1 else 'are'} full now"] if full else []
    if soon:
        words.append(f"{soon[0].status.target.key} is full first, on {show_when(_full(soon[0]))}")
    if unsure:
        words.append(f"of {len(unsure):,} it is not known")
    said = assured("forecast", bool(known) and not words, "; ".join(words), years=str(YEARS))
    first = f"; {said.text}" if said.text else ""
    headline = f"{count_of(len(known), 'place')} with a forecast{first}, as counted on {when}."
    hidden = [each for each in everyone if each not in ordered]
    notes: list[str] = []
    fine = sum(bool(levels_of(each.status)) and _full(each).meeting is Meeting.NOT_WITHIN for each in hidden)
    if fine:
        notes.append(Aside(f"{count_of(fine, 'place')} more will not be full within {YEARS} years (--all)."))
    if len(hidden) > fine:
        more = len(hidden) - fine
        has = "has" if more == 1 else "have"
        notes.append(Aside(f"{count_of(more, 'place')} more {has} no limit, or too few counts (--all)."))
    notes += _remarks(everyone, ordered)
    if len(known) < len(outlooks):
        notes.append(f"A forecast needs {FEWEST} counts.")
    if known:
        notes.append(
            f"The ranges are made to hold the truth in {round(100 * RATE)} % of cases; "
            f"no date is given beyond {YEARS} years."
        )
    empty = "no place has a limit that could be met"
    return Report("forecast", headline, _COLUMNS, rows, notes, empty, folded, said.is_assured)


def _is_coming(outlook: Outlook) -> bool:
    """Tell whether a level of a place is met, or will be."""
    return any(
        _meets(outlook, level).meeting in (Meeting.ALREADY, Meeting.ON) for _, level in levels_of(outlook.status)
    )


def full_words(outlook: Outlook) -> str:
    """Say when a place is full."""
    return show_when(_full(outlook)) if levels_of(outlook.status) else "no limit"


def _full(outlook: Outlook) -> When:
    return _meets(outlook, levels_of(outlook.status)[-1][1])


_CERTAIN = (Meeting.ALREADY, Meeting.ON, Meeting.NOT_WITHIN)
_ORDER = {Meeting.ALREADY: 0, Meeting.ON: 1, Meeting.UNEVEN: 1, Meeting.NOT_WITHIN: 2, Meeting.TOO_FEW: 3}


def _soonest(outlook: Outlook) -> tuple[int, str, str]:
    if not levels_of(outlook.status):
        return 4, "", outlook.status.target.key
    full = _full(outlook)
    return _ORDER[full.meeting], str(full.day or full.earliest or "9"), outlook.status.target.key


def _people_row(outlook: Outlook) -> Row:
    line, levels = outlook.status, levels_of(outlook.status)
    coming = next(((name, level) for name, level in levels[:-1] if line.amount < level), None)
    warning = f"{coming[0]}: {show_when(_meets(outlook, coming[1]))}" if coming else "past all" if levels[1:] else "-"
    # Without a limit there is a growth all the same.
    return {
        "place": place_words(target_cell(line)),
        "used_bytes": Size(line.amount),
        "limit_bytes": limit_cell(line.settings),
        "growth": show_growth(outlook.trend),
        "next": warning,
        "full": show_when(_full(outlook)) if levels else "no limit",
        "between": _between(_full(outlook)) if levels else "",
    }


def _row(outlook: Outlook, name: str, level: int | None) -> Row:
    line, trend = outlook.status, outlook.trend
    met = When(Meeting.TOO_FEW) if level is None else _meets(outlook, level)
    return {
        "place": target_cell(line),
        "used_bytes": Size(line.amount),
        "limit_bytes": limit_cell(line.settings),
        "weekly_growth_bytes": round(trend.slope * 7) if trend else None,
        "weekly_growth_low_bytes": round(trend.low * 7) if trend else None,
        "weekly_growth_high_bytes": round(trend.high * 7) if trend else None,
        "level": name,
        "level_bytes": level,
        "meets": met.meeting.value if level is not None else "",
        "meets_on": day_cell(met.day),
        "earliest": day_cell(met.earliest),
        "latest": day_cell(met.latest),
        "grows": trend.manner.value if trend else "",
        "may_grow": tuple(manner.value for manner in trend.others) if trend else (),
        "counts": outlook.counts,
        "breaks": "; ".join(breaks_of(trend)),
    }


def ahead_of(trend: Trend) -> list[tuple[date, float, float, float]]:
    """Return what is expected of the coming half year, week by week."""
    days = [trend.today + timedelta(weeks=week) for week in range(27)]
    return [(day, *trend.expected(day)) for day in days]


def growth_words(outlook: Outlook) -> str:
    """Say in words what a growth figure shows."""
    line, trend = outlook.status, outlook.trend
    message = f"{line.target.key}: {show_size(line.amount)} used at {count_of(outlook.counts, 'count')}"
    if trend is None:
        return f"{message}; not enough history for a forecast."
    message += f", growing by {show_growth(trend)} a week"
    for name, level in levels_of(line):
        message += f"; {name} ({show_size(level)}): {show_when(_meets(outlook, level))}"
    return ". ".join([message, *breaks_of(trend)]) + "."


def growth_of(outlook: Outlook) -> Growth:
    """Return what a figure shows of a place and its history."""
    trend = outlook.trend
    breaks = (
        [
            (each.day, f"{show_size(each.amount)} at once")
            for each in trend.breaks
            if abs(each.amount) * 50 >= trend.amount
        ]
        if trend
        else []
    )
    ahead = ahead_of(trend) if trend else []
    levels = [
        (f"{name}, {show_size(level)}: {show_when(_meets(outlook, level))}", level)
        for name, level in levels_of(outlook.status)
    ]
    return Growth(outlook.status.target.key, outlook.history, ahead, levels, breaks, growth_words(outlook))
