"""What old versions and the bin take, measured or bounded, and what another setting would free or cost."""

from __future__ import annotations

from collections.abc import Sequence

from neatledger.core.plan.space import FOR_EVER, SpaceRules
from neatledger.core.space.sizes import show_size
from neatledger.core.space.versions import KeptVersions
from neatledger.reports.report import Cell, Column, Report, Show, Size

__all__ = ["between", "freed_words", "versions_report"]

_COLUMNS = (
    Column("system", "SYSTEM"),
    Column("kind", "KIND", cuts=True),
    Column("files", "FILES", number=True),
    Column("files_bytes", "IN USE", number=True),
    Column("kept", "KEPT", number=True),
    Column("measured_bytes", "VERSIONS", number=True),
    Column("bounds", "BY CHANGES SEEN", Show.PEOPLE, number=True),
    Column("low_bytes", "", Show.MACHINE),
    Column("high_bytes", "", Show.MACHINE),
    Column("worst_bytes", "WORST CASE", number=True),
    Column("then_kept", "THEN KEPT", number=True),
    Column("frees", "WOULD FREE", Show.PEOPLE, number=True),
    Column("frees_low_bytes", "", Show.MACHINE),
    Column("frees_high_bytes", "", Show.MACHINE),
    Column("then_worst_bytes", "WORST THEN", number=True),
)


def between(low: int, high: int) -> str:
    """Show two bounds, once where they are one."""
    return show_size(low) if low == high else f"{show_size(low)} to {show_size(high)}"


def freed_words(low: int, high: int) -> str:
    """Show what would be freed, or cost."""
    if high <= 0 and low < 0:
        return f"costs {between(-high, -low)}"
    return between(low, high)


def versions_report(
    found: Sequence[tuple[str, SpaceRules, Sequence[KeptVersions], int | None]],
    when: str,
    *,
    asked: bool,
    machine: bool,
) -> Report:
    """List versions by system and kind; with each system what its bin holds (None: it shows none)."""
    rows: list[Sequence[Cell]] = []
    notes: list[str] = []
    total = [0, 0]
    for system, rules, kinds, bin_bytes in found:
        if rules.versions is None:
            notes.append(f"{system}: the plan does not say how many versions it keeps (space: keep-versions).")
        for each in kinds:
            if not each.kept and not asked and not machine:
                continue
            total = [before + more for before, more in zip(total, each.expected, strict=True)]
            rows.append(_row(system, each))
        notes += _bin_notes(system, rules, bin_bytes)
    message = f"Old versions take {between(*total)}"
    if all(rules.versions is None for _, rules, _, _ in found):
        message = "What old versions take is not known"
    headline = f"{message}, as counted on {when}."
    if rows:
        notes.append(
            "BY CHANGES SEEN: what changed from count to count; saved twice between two counts is seen once."
        )
        notes.append("WORST CASE: every file with all the versions that are kept, each as large as the file.")
    columns = _COLUMNS if asked or machine else tuple(column for column in _COLUMNS if column.key not in _ASKED)
    if columns is not _COLUMNS:
        rows = [
            [cell for cell, column in zip(row, _COLUMNS, strict=True) if column.key not in _ASKED] for row in rows
        ]
    return Report("versions", headline, columns, rows, notes, "no versions are kept, as far as the plan says")


_ASKED = frozenset({"then_kept", "frees", "frees_low_bytes", "frees_high_bytes", "then_worst_bytes"})


def _row(system: str, each: KeptVersions) -> Sequence[Cell]:
    freed = each.freed
    return (
        system,
        each.kind,
        each.files,
        Size(each.size),
        each.kept,
        "not shown" if each.measured is None else Size(each.measured),
        between(each.low, each.high),
        Size(each.low),
        Size(each.high),
        Size(each.worst),
        "" if each.then_kept is None else each.then_kept,
        "" if freed is None else freed_words(*freed),
        None if freed is None else Size(freed[0]),
        None if freed is None else Size(freed[1]),
        "" if each.then_worst is None else Size(each.then_worst),
    )


def _bin_notes(system: str, rules: SpaceRules, bin_bytes: int | None) -> list[str]:
    days = rules.bin_days
    kept = "for ever" if days == FOR_EVER else "not at all" if days == 0 else f"{days} days"
    if days is None and bin_bytes is None:
        return []
    message = (
        f"{system}: the bin holds {show_size(bin_bytes)}"
        if bin_bytes is not None
        else f"{system}: the bin is not shown"
    )
    return [f"{message}, kept {kept if days is not None else 'for as long as the plan does not say'}."]
