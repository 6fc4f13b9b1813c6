"""What a synced device would hold for a person."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from neatledger.core.plan.space import SyncRules
from neatledger.core.space.sizes import show_size
from neatledger.core.space.synced import SyncedSystem
from neatledger.core.tree.address import Address
from neatledger.core.tree.columns import LARGE_BYTES
from neatledger.reports.report import Cell, Column, Report, Size, count_of

__all__ = ["synced_report"]

_COLUMNS = (
    Column("what", "WHAT", cuts=True),
    Column("files", "FILES", number=True),
    Column("apparent_bytes", "SIZE", number=True),
    Column("because", "BECAUSE", wraps=True),
)


def synced_report(
    person: str,
    systems: Mapping[str, SyncedSystem],
    tops: Sequence[tuple[Address, int, int]],
    rules: SyncRules,
    when: str,
    *,
    has_rules: bool,
) -> Report:
    """Show what the person reads, what each rule leaves out, and what stays, by the first folder on the way."""
    rows: list[Sequence[Cell]] = []
    for name, each in systems.items():
        rows.append((f"{name}: reads", each.reads[0], Size(each.reads[1]), "every file whose list lets them read it"))
        parts = (("folders", each.by_folder), ("kinds", each.by_kind), ("large files", each.by_size))
        rows += [
            (f"{name}: less {word}", -files, Size(-size), _because(word, rules))
            for word, (files, size) in parts
            if files
        ]
    for address, files, size in sorted(tops, key=lambda top: (-top[2], top[0])):
        rows.append((address, files, Size(size), "stays"))
    files, size = (sum(each.holds[place] for each in systems.values()) for place in (0, 1))
    exact = all(each.is_exact for each in systems.values())
    headline = (
        f"A device of {person} would hold {'' if exact else 'at most '}{count_of(files, 'file')}, {show_size(size)}"
    )
    if rules.device is not None:
        headline += f" of its {show_size(rules.device)}" + (
            "" if size <= rules.device else f": {show_size(size - rules.device)} too much"
        )
    notes = (
        [] if has_rules else ["The plan has no rules of syncing (sync: in office.yaml): all that they read is held."]
    )
    if not exact:
        notes.append(
            f"Files below {show_size(LARGE_BYTES)} are not kept one by one: which of them are too large is not known."
        )
    return Report("synced", f"{headline}, as counted on {when}.", _COLUMNS, rows, notes, f"{person} has no account")


def _because(word: str, rules: SyncRules) -> str:
    match word:
        case "folders":
            parts = [str(folder) for folder in rules.folders]
            return (
                f"left out: {', '.join(parts)}; what is seen twice, versions and bins"
                if parts
                else "seen twice, versions and bins"
            )
        case "kinds":
            return f"left out: {', '.join(sorted(rules.kinds))}"
        case _:
            return f"larger than {show_size(rules.largest or 0)}"
