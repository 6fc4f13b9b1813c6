"""What is used and allowed: every limited place, the fullest first; and what is in one folder, by whatever."""

from __future__ import annotations

import os
from collections.abc import Iterable, Iterator, Mapping, Sequence
from datetime import date
from typing import Protocol

from neatledger.core.plan.limits import UNLIMITED, On, Settings
from neatledger.core.plan.space import Sort
from neatledger.core.space.figures import Figures, add_up
from neatledger.core.space.limit_table import LimitStatus
from neatledger.core.space.sizes import NO_LIMIT, is_binary, show_size
from neatledger.core.tree.address import Address
from neatledger.reports.assurances import assured
from neatledger.reports.bars import bar
from neatledger.reports.report import (
    Aside,
    Cell,
    Column,
    MachineNote,
    Portion,
    Report,
    Row,
    Show,
    Size,
    count_of,
)

__all__ = [
    "Part",
    "Whole",
    "breakdown_report",
    "every_report",
    "every_row",
    "limit_cell",
    "sort_lines",
    "space_report",
    "target_cell",
]

_COLUMNS = (
    Column("on", "ON", Show.MACHINE),
    Column("place", "PLACE", Show.MACHINE),
    Column("named", "PLACE", Show.PEOPLE, cuts=True),
    Column("used_bytes", "USED", number=True),
    Column("told_bytes", "SYSTEM SAYS", Show.MACHINE),
    Column("planned_bytes", "PLANNED", Show.MACHINE),
    Column("planned", "PLANNED", Show.PEOPLE, number=True),
    Column("planned_rule", "", Show.MACHINE),
    Column("found_bytes", "FOUND", Show.MACHINE),
    Column("found", "FOUND", Show.PEOPLE, number=True),
    Column("found_rule", "", Show.MACHINE),
    Column("percent", "FULL", number=True),
    Column("bar", "", Show.PEOPLE, spare=True),
    Column("left_bytes", "LEFT", number=True, spare=True),
    Column("state", "STATE", wraps=True),
    Column("told", "", Show.MACHINE),
    Column("band", "BAND", Show.MACHINE),
    Column("band_state", "", Show.MACHINE),
    Column("items_limit", "", Show.MACHINE),
    Column("items_used", "", Show.MACHINE),
)


def target_cell(line: LimitStatus) -> Cell:
    """Return the cell that names a place; people and groups have their word with them."""
    place = line.target
    return place.address if place.on is On.FOLDER else f"{place.on.value} {place.key}"


def limit_cell(settings: Settings | None) -> Cell:
    """Return the cell of a limit: a size, "no limit" in so many words, or unknown."""
    if settings is None:
        return None
    return NO_LIMIT if settings.limit is UNLIMITED else Size(settings.limit, is_binary(settings.limit))


def sort_lines(lines: Iterable[LimitStatus]) -> list[LimitStatus]:
    """Return the fullest first; those without a limit last, the largest of them first."""
    return sorted(lines, key=lambda line: (-line.fullness, -line.amount, line.target.on.value, line.target.key))


def _row(line: LimitStatus, today: date) -> Row:
    planned, found, settings = line.plan_settings, line.found_settings, line.settings
    limit = settings.limit
    return {
        "on": line.target.on.value,
        "place": line.target.address if line.target.on is On.FOLDER else line.target.key,
        "named": target_cell(line),
        "used_bytes": Size(line.amount) if line.is_counted else "",
        "told_bytes": None if line.found is None or line.found.used is None else Size(line.found.used),
        "planned_bytes": limit_cell(planned),
        "planned": "none" if planned is None else limit_cell(planned),
        "planned_rule": planned.rule if planned else "",
        "found_bytes": limit_cell(found),
        "found": _found_words(planned, found),
        "found_rule": found.rule if found else "",
        "percent": Portion(line.amount, limit) if isinstance(limit, int) and limit and line.is_counted else "",
        "bar": "" if limit is UNLIMITED else bar(line.fullness),
        "left_bytes": "" if line.left is None else Size(line.left),
        "state": line.state(today),
        "told": tuple(f"{level} %: {', '.join(who) or 'nobody'}" for level, who in settings.warn),
        "items_limit": None if line.found is None else line.found.items,
        "items_used": None if line.found is None else line.found.items_used,
        "band": line.planned.band.name if line.planned and line.planned.band else "",
        "band_state": line.planned.state if line.planned else "unbanded",
    }


def _found_words(planned: Settings | None, found: Settings | None) -> Cell:
    """Return what people see of what was found: what agrees with the plan need not be read twice."""
    if found is None:
        return "not told"
    if planned is None or planned.limit != found.limit:
        return limit_cell(found)
    return "as planned" if _same(planned, found) else f"but {'enforced' if found.enforced else 'watched'}"


def _same(planned: Settings, found: Settings) -> bool:
    same_rule = planned.limit is UNLIMITED or (planned.enforced, planned.grace_days) == (
        found.enforced,
        found.grace_days,
    )
    return planned.limit == found.limit and same_rule


_SHOWN = 20


def space_report(lines: Sequence[LimitStatus], when: str, today: date, *, show_all: bool) -> Report:
    """List the places, the fullest first: for people all that want attention, the pools, and the fullest others."""
    ordered = sort_lines(lines)
    limited = [line for line in ordered if line.settings.limit is not UNLIMITED or line.target.on is not On.PERSON]
    chosen = ordered if show_all else _most_telling(ordered, limited, today)
    fine = 0 if show_all else len(limited) - len(chosen)
    states = [line.state(today) for line in ordered]
    over = sum(state.startswith(("over", "full")) for state in states)
    warned = sum(state.startswith("past") for state in states)
    untold = sum(line.settings.limit is not UNLIMITED and not line.is_counted for line in ordered)
    headline = f"{count_of(over, 'place')} over or full, {warned} past a warning, as counted on {when}"
    headline += f"; of {untold:,} what is used was not told" if untold else ""
    has_any = any(line.settings.limit is not UNLIMITED for line in ordered)
    said = assured("space", has_any and not (over or warned or untold), headline, when=when)
    notes: list[str] = []
    notes += [Aside(f"{count_of(fine, 'place')} more with room to spare (--all lists them).")] if fine else []
    has_limit = {line.target.name for line in limited if line.target.on is On.PERSON}
    # One person may have files on several systems: each is one all the same.
    unlimited = {line.target.name for line in ordered if line.target.on is On.PERSON} - has_limit
    notes += [f"{count_of(len(unlimited), 'person')} without a limit on either side."] if unlimited else []
    if any(line.found_settings is None and line.target.on is not On.POOL for line in chosen):
        notes.append("FOUND not told: the system does not tell this limit; the plan's word stands for it.")
    shown = {id(line) for line in chosen}
    notes += _told(ordered)
    notes += [f"{line.target.key}: {line.items_words}." for line in ordered if line.items_warned is not None]
    notes += [note if id(line) in shown else MachineNote(note) for line, note in _differences(ordered)]
    notes.append("kB, MB, GB are powers of 1000, KiB, MiB, GiB of 1024.")
    rows = [_row(line, today) for line in ordered]
    folded = [row for line, row in zip(ordered, rows, strict=True) if id(line) in shown]
    empty = "no limits: neither the plan nor the systems have any"
    return Report("space", f"{said.text}.", _COLUMNS, rows, notes, empty, folded, said.is_assured)


def _most_telling(ordered: Sequence[LimitStatus], limited: Sequence[LimitStatus], today: date) -> list[LimitStatus]:
    """Return what people should see first: all that wants attention, the pools, and the fullest others."""
    kept = {id(line) for line in ordered if not _is_fine(line, today) or line.target.on is On.POOL}
    spare = [line for line in limited if id(line) not in kept]
    kept |= {id(line) for line in spare[: max(0, _SHOWN - len(kept))]}
    return [line for line in ordered if id(line) in kept]


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
    return line.state(today) in ("fine", "no limit", "not told")


def _differences(lines: Iterable[LimitStatus]) -> Iterator[tuple[LimitStatus, str]]:
    """Say where a system's own figure is not ours, for more than a fiftieth."""
    for line in lines:
        if line.difference is None or abs(line.difference) * 50 <= line.amount:
            continue
        theirs, ours = show_size(line.amount), show_size(line.used or 0)
        if line.target.on is On.POOL:
            yield line, f"pool {line.target.key}: {theirs} used in all, {ours} of it by what was counted."
        else:
            yield line, _difference(line.target.key, line.amount, line.used or 0)


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


class Part(Protocol):
    """One part of what something holds."""

    @property
    def name(self) -> Address | bytes | str: ...
    @property
    def figures(self) -> Figures: ...


class SystemsWord(Protocol):
    """A place of which the system says that another amount is used than the counted files make (bytes)."""

    @property
    def name(self) -> Address | str: ...
    @property
    def told(self) -> int: ...
    @property
    def counted(self) -> int: ...


class Whole(Protocol):
    """What something holds in all, and its parts; `apart` is kept beside and not counted (bytes)."""

    @property
    def by(self) -> str: ...
    @property
    def whole(self) -> Part: ...
    @property
    def parts(self) -> Sequence[Part]: ...
    @property
    def apart(self) -> Mapping[Sort, int]: ...
    @property
    def smallest_named(self) -> int | None: ...
    @property
    def differences(self) -> Sequence[SystemsWord]: ...


def breakdown_report(found: Whole, when: str) -> Report:
    """Show what a folder or the office holds, by subfolder, owner, group, kind, sort, system or single file."""
    whole = found.whole.figures
    parts = [(each.name, each.figures) for each in found.parts]
    parts.sort(key=lambda each: (-each[1].occupied, -each[1].bytes, str(each[0])))
    shown = parts
    if len(parts) > _MOST_PARTS:
        rest = parts[_MOST_PARTS:]
        shown = [*parts[:_MOST_PARTS], (f"({len(rest):,} more)", add_up(each for _, each in rest))]
    last = [] if found.by == "file" else [("in all", whole)]
    rows, folded = ([_part_row(*each, whole) for each in (*some, *last)] for some in (parts, shown))
    headline = (
        f"{_spell(found.whole.name)}: {show_size(whole.occupied)} occupied by {count_of(whole.files, 'file')}"
        f" of {show_size(whole.bytes)}, as counted on {when}."
    )
    columns = [
        Column("part", _PARTS[found.by], cuts=True),
        Column("files", "FILES", number=True),
        Column("apparent_bytes", "APPARENT", number=True),
        Column("occupied_bytes", "OCCUPIED", number=True),
        Column("percent", "SHARE", number=True),
        Column("bar", "", Show.PEOPLE, spare=True),
    ]
    if found.by == "file":
        del columns[1]
    empty = "nothing: it is empty"
    if whole.files:
        files = "its one file is not" if whole.files == 1 else f"none of its {whole.files:,} files is"
        size = f" from {show_size(found.smallest_named)} on" if found.smallest_named else ""
        empty = f"{files} known by name: a count names files{size}"
    return Report("space", headline, columns, rows, _notes(found), empty, folded)


def _spell(name: Address | bytes | str) -> str:
    return os.fsdecode(name) if isinstance(name, bytes) else str(name)


def _part_row(name: Address | bytes | str, figures: Figures, whole: Figures) -> Row:
    part = figures.occupied / whole.occupied if whole.occupied else 0.0
    return {
        "part": name,
        "files": figures.files,
        "apparent_bytes": Size(figures.bytes),
        "occupied_bytes": Size(figures.occupied),
        "percent": Portion(figures.occupied, whole.occupied),
        "bar": bar(max(part, 0.0)),
    }


def _notes(found: Whole) -> list[str]:
    notes = [_difference(_spell(one.name), one.told, one.counted) for one in found.differences]
    if any(one.told < one.counted for one in found.differences):
        notes.append("Compressed data, and data that several files share, takes less room than it is counted with.")
    return [*_notes_beside(found), *notes]


def _difference(name: str, told: int, counted: int) -> str:
    return f"{name}: the system says {show_size(told)} used, the counted files make {show_size(counted)}."


def _notes_beside(found: Whole) -> list[str]:
    if found.smallest_named is not None:
        return [f"Files of {show_size(found.smallest_named)} and more are kept by name."]
    apart = [f"{sort.words} {show_size(amount)}" for sort, amount in found.apart.items()]
    return [f"Beside this, and not counted against limits here: {', '.join(apart)} (--by sort)."] if apart else []


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


def every_row(by: str, folder: Address, key: str, whole: Figures, own: Figures) -> Row:
    """Return one row of the table of every folder."""
    return {
        "folder": folder,
        "part" if by == "folder" else by: key,
        "files": whole.files,
        "apparent_bytes": whole.bytes,
        "occupied_bytes": whole.occupied,
        "own_files": own.files,
        "own_apparent_bytes": own.bytes,
        "own_occupied_bytes": own.occupied,
    }
