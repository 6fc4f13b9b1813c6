"""What a gathering saw, and what it could not see."""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence

from neatledger.core.survey.survey import Survey
from neatledger.core.tree.columns import NotSeen
from neatledger.reports.assurances import assured
from neatledger.reports.report import Column, Report, Row, count_of

__all__ = ["gathered_report", "not_seen_lines"]

_FEW = 5


def not_seen_lines(system: str, not_seen: Sequence[NotSeen], most: int | None) -> list[str]:
    """Return a line for each thing not seen, the first `most` of them: an item, or a part of the source."""
    places = [one.source or f"{system}:{one.path.decode('utf-8', 'surrogateescape')}" for one in not_seen[:most]]
    lines = [f"  {place}  {one.why}" for place, one in zip(places, not_seen, strict=False)]
    if most is not None and len(not_seen) > most:
        lines.append(f"  … and {len(not_seen) - most:,} more (count --not-seen lists all)")
    return lines


def gathered_report(
    count: int,
    surveys: Sequence[Survey],
    seconds: Mapping[str, float],
    failed: Collection[str] = (),
    *,
    list_all: bool,
) -> Report:
    """Make the report of one gathering."""
    columns = [
        Column("system", "SYSTEM"),
        Column("accounts", "ACCOUNTS", number=True),
        Column("groups", "GROUPS", number=True),
        Column("folders", "FOLDERS", number=True),
        Column("files", "FILES", number=True),
        Column("lists", "LISTS", number=True),
        Column("bytes", "BYTES", number=True),
        Column("not_seen", "NOT SEEN", number=True),
        Column("seconds", "SECONDS", number=True),
    ]
    rows: list[Row] = []
    notes: list[str] = []
    for survey in surveys:
        rows.append(
            {
                "system": survey.system,
                "accounts": len(survey.accounts),
                "groups": len(survey.groups),
                "folders": survey.folders.rows,
                "files": survey.files,
                "lists": len(survey.lists),
                # Of everything in the root, whatever has several names once: as `space` shows it.
                "bytes": int(survey.totals["totals"]["bytes"][0]),
                "not_seen": len(survey.not_seen),
                "seconds": f"{seconds[survey.system]:.1f}",
            }
        )
        if survey.not_seen:
            notes.append(f"Not seen on {survey.system}: unknown, which is not the same as no access.")
            notes += not_seen_lines(survey.system, survey.not_seen, None if list_all else _FEW)
    missing = sum(len(survey.not_seen) for survey in surveys)
    said = [f"{count_of(missing, 'thing')} could not be seen"] if missing else []
    # Of a system that was not read nothing is kept: questions go on asking its last count.
    said += [f"without {', '.join(failed)}, which could not be read"] if failed else []
    seen = assured("all-seen", not said, "; ".join(said))
    headline = f"Count {count} is kept{':' if seen.is_assured else ';'} {seen.text}."
    return Report("gathered", headline, columns, rows, notes)
