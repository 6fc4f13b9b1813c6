"""What is used and allowed: every limited place, the fullest first; and what is in one folder, by whatever."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from datetime import date

from neatledger.core.plan.limits import On, Settings
from neatledger.core.space.limit_table import LimitStatus
from neatledger.core.space.sizes import NO_LIMIT, is_binary, show_share, show_size
from neatledger.core.tree.address import Address
from neatledger.reports.bars import bar
from neatledger.reports.report import Cell, Column, Report, Show, Size, count_of

__all__ = [
    "Share",
    "breakdown_report",
    "every_report",
    "figures_share",
    "limit_cell",
    "sort_lines",
    "space_report",
    "target_cell",
]

_COLUMNS = (
    Column("on", "ON", Show.MACHINE),
    Column("place", "PLACE", cuts=True),
    Column("used_bytes", "USED", number=True),
    Column("told_bytes", "SYSTEM SAYS", Show.MACHINE),
    Column("planned_bytes", "PLANNED", number=True),
    Column("planned_rule", "", Show.MACHINE),
    Column("found_bytes", "FOUND", number=True),
    Column("found_rule", "", Show.MACHINE),
    Column("percent", "FULL", number=True),
    Column("bar", "", Show.PEOPLE, spare=True),
    Column("left_bytes", "LEFT", number=True),
    Column("state", "STATE", wraps=True),
    Column("told", "", Show.MACHINE),
    Column("band", "BAND", Show.MACHINE),
    Column("band_state", "", Show.MACHINE),
)


def target_cell(line: LimitStatus) -> Cell:
    """Return the cell that names a place; people and groups have their word with them."""
    place = line.target
    return place.address if place.on is On.FOLDER else f"{place.on.value} {place.key}"


def limit_cell(settings: Settings | None) -> Cell:
    """Return the cell of a limit: a size, "no limit" in so many words, or unknown."""
    if settings is None:
        return None
    return NO_LIMIT if settings.limit is None else Size(settings.limit, is_binary(settings.limit))


def sort_lines(lines: Iterable[LimitStatus]) -> list[LimitStatus]:
    """Return the fullest first; those without a limit last, the largest of them first."""
    return sorted(lines, key=lambda line: (-line.fullness, -line.amount, line.target.on.value, line.target.key))


def _row(line: LimitStatus, today: date, *, machine: bool) -> Sequence[Cell]:
    planned, found, settings = line.plan_settings, line.found_settings, line.settings
    percent: Cell = ""
    if settings.limit:
        percent = 100 * line.amount // settings.limit if machine else show_share(line.amount, settings.limit)
    # What agrees need not be read twice.
    agrees = planned is not None and found is not None and _same(planned, found)
    found_cell: Cell = "=" if agrees and not machine else limit_cell(found)
    if planned and found and not agrees and planned.limit == found.limit and not machine:
        found_cell = f"= {'enforced' if found.enforced else 'watched'}"
    planned_cell: Cell = "-" if planned is None and not machine else limit_cell(planned)
    if line.target.on is On.POOL and planned is None:
        planned_cell = None if machine else "-"
    return (
        line.target.on.value,
        target_cell(line) if not machine or line.target.on is On.FOLDER else line.target.key,
        Size(line.amount),
        None if line.found is None or line.found.used is None else Size(line.found.used),
        planned_cell,
        planned.rule if planned else "",
        found_cell,
        found.rule if found else "",
        percent,
        bar(line.fullness) if settings.limit is not None else "",
        "" if line.left is None else Size(line.left),
        line.state(today),
        tuple(f"{level} %: {', '.join(who) or 'nobody'}" for level, who in settings.warn),
        line.planned.band.name if line.planned and line.planned.band else "",
        line.planned.state if line.planned else "unbanded",
    )


def _same(planned: Settings, found: Settings) -> bool:
    same_rule = planned.limit is None or (planned.enforced, planned.grace_days) == (found.enforced, found.grace_days)
    return planned.limit == found.limit and same_rule


_SHOWN = 20


def space_report(lines: Sequence[LimitStatus], when: str, today: date, *, show_all: bool, machine: bool) -> Report:
    """List the places, the fullest first: for people all that want attention, the pools, and the fullest others."""
    ordered = sort_lines(lines)
    graded = [(line, _is_fine(line, today)) for line in ordered]
    limited = [line for line, _ in graded if line.settings.limit is not None or line.target.on is not On.PERSON]
    chosen, fine = ordered, 0
    if not show_all and not machine:
        kept = {id(line) for line, is_fine in graded if not is_fine or line.target.on is On.POOL}
        spare = [line for line in limited if id(line) not in kept]
        kept |= {id(line) for line in spare[: max(0, _SHOWN - len(kept))]}
        chosen = [line for line in ordered if id(line) in kept]
        fine = len(limited) - len(chosen)
    over = sum(1 for line in ordered if line.state(today).startswith(("over", "full")))
    warned = sum(1 for line in ordered if line.state(today).startswith("past"))
    headline = f"{count_of(over, 'place')} over or full, {warned} past a warning, as counted on {when}."
    notes = [f"{count_of(fine, 'place')} more with room to spare (--all lists them)."] if fine else []
    unlimited = len(ordered) - len(limited)
    notes += [f"{count_of(unlimited, 'person')} without a limit on either side."] if unlimited else []
    if any(line.found_settings is None and line.target.on is not On.POOL for line in chosen):
        notes.append("FOUND ?: the system does not tell this limit; the plan's word stands for it.")
    notes += [*_told(ordered), *_differences(chosen)]
    notes.append("FOUND =: as planned, the rule too. kB, MB, GB are powers of 1000, KiB, MiB, GiB of 1024.")
    rows = [_row(line, today, machine=machine) for line in chosen]
    return Report("space", headline, _COLUMNS, rows, notes, "no limits: neither the plan nor the systems have any")


def _told(lines: Iterable[LimitStatus]) -> list[str]:
    """Say who is told of the warnings that are past."""
    notes = []
    for line in lines:
        who = dict(line.settings.warn).get(line.warned or 0)
        if who is not None:
            verb = "is" if len(who) < 2 else "are"
            notes.append(f"{line.target.key}, past {line.warned} %: {', '.join(who) or 'nobody'} {verb} told.")
    return notes


def _is_fine(line: LimitStatus, today: date) -> bool:
    return line.state(today) in ("fine", "no limit")


def _differences(lines: Iterable[LimitStatus]) -> list[str]:
    """Say where a system's own figure is not ours, for more than a fiftieth."""
    notes = []
    for line in lines:
        if line.difference is None or abs(line.difference) * 50 <= line.amount:
            continue
        message, ours = show_size(line.amount), show_size(line.used or 0)
        if line.target.on is On.POOL:
            notes.append(f"pool {line.target.key}: {message} used in all, {ours} of it by what was counted.")
        else:
            notes.append(f"{line.target.key}: the system says {message} used, the counted files make {ours}.")
    return notes


@dataclass(frozen=True, slots=True)
class Share:
    """One part of what a folder holds: its name, and files, apparent and occupied bytes."""

    name: Cell
    files: int
    size: int
    occupied: int


_MOST_PARTS = 40
_PARTS = {
    "folder": "FOLDER",
    "owner": "OWNER",
    "group": "GROUP",
    "kind": "KIND",
    "sort": "SORT",
    "system": "SYSTEM",
    "file": "FILE",
}


def breakdown_report(
    by: str, whole: Share, shares: Iterable[Share], when: str, notes: Sequence[str], *, machine: bool
) -> Report:
    """Show what a folder or the office holds, by subfolder, owner, group, kind, sort, system or single file."""
    ordered = sorted(shares, key=lambda each: (-each.occupied, -each.size, str(each.name)))
    if not machine and len(ordered) > _MOST_PARTS:
        rest = ordered[_MOST_PARTS:]
        sums = (sum(getattr(each, name) for each in rest) for name in ("files", "size", "occupied"))
        ordered = [*ordered[:_MOST_PARTS], Share(f"({len(rest):,} more)", *sums)]
    rows = [_share_row(each, whole, machine=machine) for each in ordered]
    if by != "file":
        rows.append(_share_row(Share("in all", whole.files, whole.size, whole.occupied), whole, machine=machine))
    name = whole.name if isinstance(whole.name, str) else str(whole.name)
    headline = (
        f"{name}: {show_size(whole.occupied)} occupied by {count_of(whole.files, 'file')}"
        f" of {show_size(whole.size)}, as counted on {when}."
    )
    columns: tuple[Column, ...] = (
        Column("part", _PARTS[by], cuts=True),
        Column("files", "FILES", number=True),
        Column("apparent_bytes", "APPARENT", number=True),
        Column("occupied_bytes", "OCCUPIED", number=True),
        Column("percent", "SHARE", number=True),
        Column("bar", "", Show.PEOPLE, spare=True),
    )
    if by == "file":
        columns = tuple(column for column in columns if column.key != "files")
        rows = [(row[0], *row[2:]) for row in rows]
    return Report("space", headline, columns, rows, list(notes), "nothing: it is empty")


def every_report(by: str, name: str, when: str) -> Report:
    """Return the table of every folder, without its rows: what it holds with all below it, and by itself."""
    figures = ("files", "apparent_bytes", "occupied_bytes")
    heads = ("FILES", "APPARENT", "OCCUPIED")
    columns = [Column("folder", "FOLDER", cuts=True), Column(by, _PARTS[by], cuts=True)]
    columns += [Column(key, head, number=True) for key, head in zip(figures, heads, strict=True)]
    columns += [Column(f"own_{key}", f"OWN {head}", number=True) for key, head in zip(figures, heads, strict=True)]
    if by == "folder":
        columns[1] = Column("part", "", Show.MACHINE)
    return Report(
        "space", f"Every folder of {name}, with all below it and by itself, as counted on {when}.", columns, []
    )


def _share_row(each: Share, whole: Share, *, machine: bool) -> Sequence[Cell]:
    part = each.occupied / whole.occupied if whole.occupied else 0.0
    percent: Cell = int(100 * part) if machine else show_share(each.occupied, whole.occupied)
    return each.name, each.files, Size(each.size), Size(each.occupied), percent, bar(max(part, 0.0))


def figures_share(name: Cell | Address, figures: Mapping[str, int]) -> Share:
    """Make a share of figures."""
    return Share(name, figures["files"], figures["bytes"], figures["occupied"])
