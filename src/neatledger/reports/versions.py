"""What old versions and the bin take, measured or bounded, and what another setting would free or cost."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Protocol

from neatledger.core.plan.limits import UNLIMITED
from neatledger.core.plan.space import SpaceRules
from neatledger.core.space.sizes import show_between, show_size
from neatledger.core.space.versions import KeptVersions
from neatledger.reports.report import Column, MachineNote, Report, Row, Show, Size, hide

__all__ = ["freed_words", "versions_report"]

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


def freed_words(low: int, high: int) -> str:
    """Show what would be freed, or cost."""
    if high <= 0 and low < 0:
        return f"costs {show_between(-high, -low)}"
    return show_between(low, high)


class OfSystem(Protocol):
    """One system: its rules, what versions take by kind, and what its bin holds (None: it shows none)."""

    @property
    def system(self) -> str: ...
    @property
    def rules(self) -> SpaceRules: ...
    @property
    def kinds(self) -> Sequence[KeptVersions]: ...
    @property
    def bin_bytes(self) -> int | None: ...


def versions_report(found: Sequence[OfSystem], when: str, *, is_compared: bool) -> Report:
    """List versions by system and kind; `is_compared` says that another number kept stands beside."""
    rows = [(each, _row(one.system, each)) for one in found for each in one.kinds]
    # People need see nothing of kinds of which no versions are kept.
    folded = [row for each, row in rows if each.kept or is_compared]
    notes: list[str] = []
    for one in found:
        if one.rules.versions is None:
            notes.append(f"{one.system}: the plan does not say how many versions it keeps (space: keep-versions).")
        notes += _bin_notes(one.system, one.rules, one.bin_bytes)
    low, high = (sum(each.expected[end] for each, _ in rows if each.kept or is_compared) for end in (0, 1))
    takes = f"Old versions take {show_between(low, high)}"
    if all(one.rules.versions is None for one in found):
        takes = "What old versions take is not known"
    note = MachineNote if rows and not folded else str
    if rows:
        notes.append(
            note("BY CHANGES SEEN: what changed from count to count; two saves between two counts count as one.")
        )
        notes.append(note("WORST CASE: every file with all the versions that are kept, each as large as the file."))
    columns = _COLUMNS if is_compared else hide(_COLUMNS, *_ASKED)
    empty = "no versions are kept, as far as the plan says"
    return Report(
        "versions", f"{takes}, as counted on {when}.", columns, [row for _, row in rows], notes, empty, folded
    )


_ASKED = frozenset({"then_kept", "frees", "frees_low_bytes", "frees_high_bytes", "then_worst_bytes"})


def _row(system: str, each: KeptVersions) -> Row:
    freed = each.freed
    return {
        "system": system,
        "kind": each.kind,
        "files": each.files,
        "files_bytes": Size(each.size),
        "kept": each.kept,
        "measured_bytes": "not shown" if each.measured is None else Size(each.measured),
        "bounds": show_between(each.low, each.high),
        "low_bytes": Size(each.low),
        "high_bytes": Size(each.high),
        "worst_bytes": Size(each.worst),
        "then_kept": "" if each.then_kept is None else each.then_kept,
        "frees": "" if freed is None else freed_words(*freed),
        "frees_low_bytes": None if freed is None else Size(freed[0]),
        "frees_high_bytes": None if freed is None else Size(freed[1]),
        "then_worst_bytes": "" if each.then_worst is None else Size(each.then_worst),
    }


def _bin_notes(system: str, rules: SpaceRules, bin_bytes: int | None) -> list[str]:
    days = rules.bin_days
    kept = "forever" if days is UNLIMITED else "" if days == 0 else f"{days} days"
    if days is None and bin_bytes is None:
        return []
    message = (
        f"{system}: the bin holds {show_size(bin_bytes)}"
        if bin_bytes is not None
        else f"{system}: the bin's size is not reported"
    )
    if days == 0:
        return [f"{message}; nothing is kept in it."]
    return [f"{message}, kept {kept if days is not None else 'as long as the plan does not say'}."]
