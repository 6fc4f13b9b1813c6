"""Who can reach one folder: a row a person and way, those with the most first."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence

from neatledger.core.access import Access
from neatledger.core.people import Seat
from neatledger.core.plan import Address, Kind
from neatledger.core.rights import Level
from neatledger.reports.access import ACCESS_COLUMNS, access_row
from neatledger.reports.report import Cell, Column, Report, Show

__all__ = ["who_report"]

_ORDER = [
    Level.MANAGE,
    Level.WRITE,
    Level.MIXED,
    Level.DROP,
    Level.READ,
    Level.LIST,
    Level.UNKNOWN,
    Level.NONE,
]
_FEW = 3


def _rank(row: Sequence[Cell]) -> tuple[int, str]:
    level = Level(str(row[5]))
    return _ORDER.index(level), str(row[0])


def who_report(
    address: Address,
    asked: Iterable[Access],
    names: Mapping[str, str],
    when: str,
    *,
    is_all: bool,
    machine: bool,
) -> Report:
    """Make the report of all people's access to one folder.

    In machine formats every person has a row for each way and one for their union; for people, those with
    one way have one row, service accounts with the same rights share one, and those with none are counted.
    """
    rows: list[Sequence[Cell]] = []
    without = people = 0
    for access in asked:
        people += 1
        if machine:
            rows += [access_row(address, way, access, names) for way in access.ways]
            rows.append(access_row(address, None, access, names))
            continue
        telling = [way for way in access.ways if is_all or way.rights or not way.is_known]
        without += not telling
        rows += [access_row(address, way, access, names) for way in telling]
        if len(telling) > 1:
            rows.append(access_row(address, None, access, names))
    rows.sort(key=_rank)
    if not machine:
        rows = _fold(rows, {each.seat.person: each.seat for access in asked for each in access.ways})
    notes = []
    if without:
        notes.append(
            f"{without} more {'person has' if without == 1 else 'people have'} no right here (--all lists them)."
        )
    reached = people - without
    headline = f"{reached} of {people} people reach this folder by what was found on {when}."
    columns = _columns(rows, machine)
    keep = [place for place, column in enumerate(ACCESS_COLUMNS) if column in columns]
    shown: list[Sequence[Cell]] = [[row[place] for place in keep] for row in rows]
    return Report("who", headline, columns, shown, notes, "nobody has any right here")


def _columns(rows: Sequence[Sequence[Cell]], machine: bool) -> list[Column]:
    if machine:
        return list(ACCESS_COLUMNS)
    hidden = {"folder"}
    if all(row[4] == "share" for row in rows):
        hidden.add("way")
    return [column for column in ACCESS_COLUMNS if column.key not in hidden and column.show is not Show.MACHINE]


def _fold(rows: list[Sequence[Cell]], seats: Mapping[str, Seat]) -> list[Sequence[Cell]]:
    """Fold service accounts that stand for themselves and have the same rights into one row."""
    alike: dict[tuple[Cell, ...], list[Sequence[Cell]]] = {}
    for row in rows:
        seat = seats[str(row[0])]
        same: tuple[Cell, ...] = (str(row[0]),)
        if seat.kind is Kind.SERVICE and not seat.is_planned:
            same = ("", *row[4:])
        alike.setdefault(same, []).append(row)
    folded: list[Sequence[Cell]] = []
    for same, group in alike.items():
        if same[0] or len(group) <= _FEW:
            folded += group
        else:
            shown = ", ".join(str(row[0]) for row in group[:_FEW])
            folded.append((f"{len(group)} service accounts ({shown}, …)", *group[0][1:]))
    return folded
