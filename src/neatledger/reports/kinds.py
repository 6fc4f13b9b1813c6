"""Kinds of files: how much there is of each, where it is barred; and what is stored in spite of that."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence

from neatledger.core.plan.space import Barred, BarredFiles
from neatledger.core.space.figures import Figures
from neatledger.core.space.sizes import show_size
from neatledger.core.tree.address import Address
from neatledger.reports.assurances import assured
from neatledger.reports.bars import bar
from neatledger.reports.report import Aside, Column, Portion, Report, Row, Show, Size, count_of

__all__ = ["barred_report", "kinds_report"]


def kinds_report(
    name: str, kinds: Mapping[str, Figures], barred: Mapping[str, Sequence[Address]], when: str
) -> Report:
    """List kinds by what they occupy, each with where it is barred."""
    whole = sum(figures.occupied for figures in kinds.values())
    rows: list[Row] = [
        {
            "kind": kind,
            "files": figures.files,
            "apparent_bytes": Size(figures.bytes),
            "occupied_bytes": Size(figures.occupied),
            "percent": Portion(figures.occupied, whole),
            "bar": bar(max(figures.occupied / whole if whole else 0.0, 0)),
            "barred": tuple(str(address) for address in barred.get(kind, ())),
        }
        for kind, figures in sorted(kinds.items(), key=lambda each: (-each[1].occupied, each[0]))
    ]
    columns = (
        Column("kind", "KIND", cuts=True),
        Column("files", "FILES", number=True),
        Column("apparent_bytes", "APPARENT", number=True),
        Column("occupied_bytes", "OCCUPIED", number=True),
        Column("percent", "SHARE", number=True),
        Column("bar", "", Show.PEOPLE, spare=True),
        Column("barred", "NOT ALLOWED IN", wraps=True),
    )
    headline = f"{name}: {count_of(len(kinds), 'kind')} of files, {show_size(whole)}, as counted on {when}."
    notes: list[str] = [Aside("--barred lists what is stored in spite of a rule.")] if any(barred.values()) else []
    return Report("kinds", headline, columns, rows, notes, "no files")


def barred_report(found: Iterable[BarredFiles], rules: Sequence[Barred], when: str) -> Report:
    """List what is stored though its kind is barred: where, whose, how much; the largest first."""
    ordered = sorted(found, key=lambda each: (-each.size, str(each.folder), each.kind, each.owner))
    rows: list[Row] = [
        {
            "folder": each.folder,
            "kind": each.kind,
            "owner": each.owner,
            "files": each.files,
            "apparent_bytes": Size(each.size),
            "barred_in": str(each.rule.folder),
            "because": each.rule.because,
        }
        for each in ordered
    ]
    columns = (
        Column("folder", "FOLDER", cuts=True),
        Column("kind", "KIND"),
        Column("owner", "OWNER", cuts=True),
        Column("files", "FILES", number=True),
        Column("apparent_bytes", "SIZE", number=True),
        Column("barred_in", "NOT ALLOWED IN", cuts=True),
        Column("because", "WHY", wraps=True),
    )
    files, size = sum(each.files for each in ordered), sum(each.size for each in ordered)
    headline = f"{count_of(files, 'file')} of types that are not allowed, {show_size(size)}, as counted on {when}."
    notes = ["A rule stops nothing that is stored already: it stays until someone acts."] if rows else []
    said = assured("kinds", bool(rules) and not rows, "the plan bars no kinds (barred: in office.yaml)")
    return Report("kinds", headline, columns, said.or_rows(rows), notes, said.text, is_assured=said.is_assured)
