"""What limits promise, against what pools hold."""

from __future__ import annotations

from collections.abc import Sequence

from neatledger.core.space.promises import Promise
from neatledger.core.space.sizes import NO_LIMIT, show_size
from neatledger.reports.assurances import assured
from neatledger.reports.report import Column, Report, Row, Size, count_of

__all__ = ["promises_report"]

_COLUMNS = (
    Column("pool", "DISK"),
    Column("size_bytes", "HOLDS", number=True),
    Column("used_bytes", "USED", number=True),
    Column("promised_bytes", "PROMISED", number=True),
    Column("beyond_bytes", "TOO MUCH", number=True),
    Column("folders_bytes", "BY FOLDERS", number=True),
    Column("people_bytes", "BY PEOPLE", number=True),
    Column("groups_bytes", "BY GROUPS", number=True),
    Column("limits", "LIMITS", number=True),
)


def promises_report(found: Sequence[Promise], when: str) -> Report:
    """List the pools, the most overpromised first."""
    rows = [_row(each) for each in sorted(found, key=lambda each: (-each.beyond, each.pool))]
    over = [each for each in found if each.beyond]
    sizeless = sum(each.size is None for each in found)
    headline = f"{count_of(len(over), 'disk')} of {len(found)} overcommitted"
    headline += f", {over[0].pool} by {show_size(over[0].beyond)}" if len(over) == 1 else ""
    headline += f"; of {sizeless:,} the size is not known" if sizeless else ""
    said = assured("promised", not over and not sizeless, headline, pools=f"{len(found):,}")
    notes = [
        "PROMISED: the sum of limits that block (nested ones once), with what is used without a limit.",
        "The same bytes count for folders, people and groups: the largest of the three is the promise.",
    ]
    headline = f"{said.text}, as counted on {when}."
    return Report("promises", headline, _COLUMNS, rows, notes, "no pools", is_assured=said.is_assured)


def _row(each: Promise) -> Row:
    by = {"folders_bytes": each.by_folders, "people_bytes": each.by_people, "groups_bytes": each.by_groups}
    return {
        "pool": each.pool,
        "size_bytes": NO_LIMIT if each.size is None else Size(each.size),
        "used_bytes": Size(each.used),
        "promised_bytes": Size(each.promised),
        "beyond_bytes": Size(each.beyond) if each.beyond else "",
        **{key: Size(amount) if amount else "" for key, amount in by.items()},
        "limits": each.limits,
    }
