"""Everything that lapses, as one list by date."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import date

from neatledger.core.sharing.lapses import Lapse
from neatledger.reports.assurances import assured
from neatledger.reports.report import Aside, Column, Report, Row, count_of

__all__ = ["CalendarDay", "calendar_days", "lapses_report"]

_COLUMNS = (
    Column("day", "DAY"),
    Column("in_days", "IN DAYS", number=True),
    Column("what", "WHAT"),
    Column("place", "WHERE", cuts=True),
    Column("who", "WHO", cuts=True),
    Column("then", "THEN", wraps=True),
)


@dataclass(frozen=True, slots=True)
class CalendarDay:
    """One day of a calendar: its title, its text, and what tells it from others."""

    day: date
    title: str
    text: str
    key: str


def lapses_report(found: Sequence[Lapse], today: date, past: int, later: int, scope: str = " ends") -> Report:
    """Make the list; `past` and `later` are how many lie before it and behind it, `scope` says of what it is one."""
    rows: list[Row] = [
        {
            "day": one.day.isoformat(),
            "in_days": (one.day - today).days,
            "what": one.what,
            "place": one.place,
            "who": one.who,
            "then": one.then,
        }
        for one in found
    ]
    coming = [one for one in found if one.day >= today]
    first = f"; the next on {coming[0].day}" if coming else ""
    headline = f"{count_of(len(found), 'thing')} {'ends' if len(found) == 1 else 'end'}{first}."
    notes = ["Ending removes access, not files."] if rows else []
    notes += [Aside(f"{past:,} ended before {today} (--past shows them).")] if past else []
    notes += [Aside(f"{later:,} more come later (--within DAYS).")] if later else []
    said = assured("expiring", not rows, "", scope=scope)
    return Report("lapses", headline, _COLUMNS, said.or_rows(rows), notes, said.text, is_assured=said.is_assured)


def calendar_days(found: Sequence[Lapse]) -> list[CalendarDay]:
    """Return what lapses as days of a calendar, each with what tells it from others in every run."""
    return [
        CalendarDay(
            one.day,
            f"{one.what}: {one.place}",
            "\n".join(each for each in (one.who, one.then) if each),
            "\x00".join((one.what, str(one.place), one.who, one.then)),
        )
        for one in found
    ]
