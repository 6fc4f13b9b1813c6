"""What is used and allowed: every limited place, the fullest first; and what is in one folder, by whatever."""

from __future__ import annotations

import os
from collections.abc import Iterable, Iterator, Mapping, Sequence
from datetime import date
from typing import Protocol

from neatledger.core.plan.limits import UNLIMITED, On, PlacedLimit, Settings
from neatledger.core.plan.space import Sort
from neatledger.core.space.figures import Figures, add_up
from neatledger.core.space.forecast import Outlook
from neatledger.core.space.limit_table import LimitStatus
from neatledger.core.space.sizes import NO_LIMIT, is_binary, show_field, show_share, show_size
from neatledger.core.tree.address import Address
from neatledger.reports.assurances import assured
from neatledger.reports.bars import bar
from neatledger.reports.report import (
    Cell,
    Column,
    MachineNote,
    Pointer,
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
    "place_words",
    "sort_lines",
    "space_report",
    "target_cell",
]

_MACHINE = (
    "on", "place", "used_bytes", "told_bytes", "planned_bytes", "planned_rule", "found_bytes", "found_rule",
    "percent", "left_bytes", "state", "told", "band", "differs", "items_limit", "items_used",
)  # fmt: skip
_HEADS = {"place": "PLACE", "used_bytes": "USED", "percent": "FULL", "left_bytes": "LEFT", "state": "STATE"}
_COLUMNS = (
    Column("full", "FULL", Show.PEOPLE, number=True),
    Column("used", "USED", Show.PEOPLE, number=True),
    Column("limit", "LIMIT", Show.PEOPLE, number=True),
    Column("left", "LEFT", Show.PEOPLE, number=True),
    Column("named", "PLACE", Show.PEOPLE, cuts=True),
    Column("state_words", "STATE", Show.PEOPLE, wraps=True),
    *(Column(key, _HEADS.get(key, ""), Show.MACHINE) for key in _MACHINE),
)


def target_cell(line: LimitStatus) -> Cell:
    """Return the cell that names a place; people and groups have their word with them."""
    place = line.target
    return place.address if place.on is On.FOLDER else f"{place.on.value} {place.key}"


def place_words(place: Cell) -> Cell:
    """Return the cell of a place as people speak of it: what the plan calls a pool is a disk to them."""
    return f"disk {place.removeprefix('pool ')}" if isinstance(place, str) and place.startswith("pool ") else place


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
    full = Portion(line.amount, limit) if isinstance(limit, int) and limit and line.is_counted else ""
    used = Size(line.amount) if line.is_counted else ""
    left = "" if line.left is None else Size(line.left)
    return {
        "full": "-" if full == "" else full,
        "used": "?" if used == "" else used,
        "left": "-" if left == "" else left,
        "on": line.target.on.value,
        "place": line.target.address if line.target.on is On.FOLDER else line.target.key,
        "named": place_words(target_cell(line)),
        "used_bytes": used,
        "told_bytes": None if line.found is None or line.found.used is None else Size(line.found.used),
        "planned_bytes": limit_cell(planned),
        "limit": "?" if not line.is_told else limit_cell(settings),
        "planned_rule": planned.rule if planned else "",
        "found_bytes": limit_cell(found),
        "found_rule": found.rule if found else "",
        "percent": full,
        "left_bytes": left,
        "state": line.state(today),
        "state_words": _state_words(line, today),
        "told": tuple(f"{level} %: {', '.join(who) or 'nobody'}" for level, who in settings.warn),
        "items_limit": None if line.found is None else line.found.items,
        "items_used": None if line.found is None else line.found.items_used,
        "band": line.planned.band.name if line.planned and line.planned.band else "",
        "differs": differs_of(line.planned),
    }


def differs_of(placed: PlacedLimit | None) -> tuple[str, ...]:
    """Say in what a place differs from its band, field by field; nothing where it does not, or has none."""
    exceptions = placed.exceptions if placed else ()
    return tuple(f"{show_field(one.field, one.own)} (band: {show_field(one.field, one.band)})" for one in exceptions)


def _state_words(line: LimitStatus, today: date) -> str:
    """Say the state in a phrase, with what the plan has otherwise."""
    planned, found = line.plan_settings, line.found_settings
    words = [line.state(today).replace("watched", "only warns").replace("grace is up", "no days left")]
    if line.items_warned is not None and line.found is not None and line.items_left != 0:
        words = [f"{line.found.items_used:,} of {line.found.items:,} files"]
    words = [] if words in (["fine"], ["no limit"]) else words
    if found is None and planned is not None:
        words.append("the system reports no limit")
    elif planned is not None and found is not None and planned.limit != found.limit:
        limit = limit_cell(planned)
        words.append(f"plan: {show_size(limit, binary=limit.is_binary) if isinstance(limit, Size) else 'no limit'}")
    elif planned is not None and found is not None and not _same(planned, found):
        words.append(
            f"{'blocks' if found.enforced else 'only warns'}; plan: {'blocks' if planned.enforced else 'warns'}"
        )
    return "; ".join(words) or line.state(today)


def _same(planned: Settings, found: Settings) -> bool:
    same_rule = planned.limit is UNLIMITED or (planned.enforced, planned.grace_days) == (
        found.enforced,
        found.grace_days,
    )
    return planned.limit == found.limit and same_rule


def space_report(
    lines: Sequence[LimitStatus], when: str, today: date, *, show_all: bool, free: Sequence[ToFree] = ()
) -> Report:
    """List the places, the fullest first: for people those that want attention, and what to free first (`free`)."""
    ordered = sort_lines(lines)
    limited = [line for line in ordered if line.settings.limit is not UNLIMITED]
    states = [line.state(today) for line in ordered]
    over = sum(state.startswith(("over", "full")) for state in states)
    warned = sum(state.startswith("past") for state in states)
    untold = sum(line.settings.limit is not UNLIMITED and not line.is_counted for line in ordered)
    headline = f"{count_of(over, 'place')} over the limit or full, {warned} past a warning"
    headline += f"; of {untold:,} the use is unknown" if untold else ""
    said = assured("space", bool(limited) and not (over or warned or untold), headline, when=when)
    shown = ordered if show_all else [line for line in ordered if not _is_fine(line, today)] or limited[:_SHOWN]
    notes: list[str] = [*_told(ordered)]
    has_limit = {line.target.name for line in limited if line.target.on is On.PERSON}
    # One person may have files on several systems: each is one all the same.
    unlimited = {line.target.name for line in ordered if line.target.on is On.PERSON} - has_limit
    notes += (
        [MachineNote(f"{count_of(len(unlimited), 'person')} without a limit on either side.")] if unlimited else []
    )
    chosen = {id(line) for line in shown}
    notes += [
        note if id(line) in chosen or not limited else MachineNote(note) for line, note in _differences(ordered)
    ]
    rows = [_row(line, today) for line in ordered]
    folded = [row for line, row in zip(ordered, rows, strict=True) if id(line) in chosen]
    empty = "no limits: neither the plan nor the systems have any"
    report = Report("space", f"{said.text}.", _COLUMNS, rows, notes, empty, folded, said.is_assured)
    report.most = _SHOWN
    pointers = []
    more = len(limited) - sum(id(line) in chosen for line in limited)
    if more:
        pointers.append(
            Pointer(f"{count_of(more, 'more place')} {'has' if more == 1 else 'have'} space left", "space -a")
        )
    report.pointers = [*pointers, Pointer("When each place is full", "space --forecast")]
    for one in free:
        report.headline = f"{_full_words(one)} {report.headline}" if report.headline else _full_words(one)
        report.lead = [*report.lead, *_free_lines(one)]
    return report


_SHOWN = 20


class Thing(Protocol):
    """One thing that would free space."""

    @property
    def what(self) -> str: ...
    @property
    def low(self) -> int: ...
    @property
    def high(self) -> int: ...
    @property
    def todo(self) -> str: ...
    @property
    def command(self) -> str: ...


class ToFree(Protocol):
    """A pool that is nearly full, and what would free space on it."""

    @property
    def outlook(self) -> Outlook: ...
    @property
    def things(self) -> Sequence[Thing]: ...
    def weeks(self, amount: int) -> float | None:
        """Return for how many weeks an amount would last."""


def _full_words(free: ToFree) -> str:
    """Say how full a pool is, how fast it grows and when it is full."""
    line, trend = free.outlook.status, free.outlook.trend
    limit = line.settings.limit
    assert isinstance(limit, int)
    text = f"Disk {line.target.key} is {show_share(line.amount, limit)} full: "
    text += f"{show_size(max(line.left or 0, 0))} left"
    when = None if trend is None else trend.meets(limit)
    if trend is not None and trend.slope > 0:
        text += f", growing about {show_size(round(trend.slope * 7))} a week"
    if when is not None and when.day:
        span = f"{when.earliest} to {when.latest or 'much later'}"
        text += f", full about {when.day} ({span})"
    return f"{text}."


_FEW = 4


def _free_lines(free: ToFree) -> list[str]:
    """Return the table of what to free first, as lines: how much each frees, for how long that lasts, and by what."""
    name = free.outlook.status.target.key
    if not free.things:
        return [f"What would free space on disk {name} is not known."]
    total = sum(one.high for one in free.things)
    rows = [(f"FREE FIRST, up to {show_size(total)}", "FREES", "LASTS", "BY")]
    for one in free.things[:_FEW]:
        frees = show_size(one.high) if one.low == one.high else f"{show_size(one.low)} to {show_size(one.high)}"
        rows.append((one.what, frees, _lasts(free.weeks(one.high)), one.command or one.todo))
    widths = [max(len(row[place]) for row in rows) for place in range(3)]
    return [
        f"{what:<{widths[0]}}  {frees:>{widths[1]}}  {lasts:<{widths[2]}}  {by}".rstrip()
        for what, frees, lasts, by in rows
    ]


def _lasts(weeks: float | None) -> str:
    if weeks is None:
        return "-"
    if weeks < 1:
        return "<1 week"
    return count_of(int(weeks), "week") if weeks < _WEEKS else count_of(int(weeks / _WEEKS), "year")


_WEEKS = 52


def _told(lines: Iterable[LimitStatus]) -> list[str]:
    """Say who is told of the warnings that are past."""
    notes: list[str] = []
    for line in lines:
        who = dict(line.settings.warn).get(line.warned or 0)
        if who is not None:
            verb = "is" if len(who) < 2 else "are"
            notes.append(
                MachineNote(f"{line.target.key}, past {line.warned} %: {', '.join(who) or 'nobody'} {verb} told.")
            )
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
            yield line, f"Disk {line.target.key}: {theirs} used in all, {ours} of it by what was counted."
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
