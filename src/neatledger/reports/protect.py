"""Protection, as rows: place by place what is wanted, what was found, and what would be lost now."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from datetime import datetime, timedelta
from typing import Protocol

from neatledger.core.plan.limits import Unlimited
from neatledger.core.plan.protection import BackupRule, SnapshotRule, SystemProtection, Wanted, show_duration
from neatledger.core.protection.found import FoundProtection
from neatledger.core.protection.standing import Standing
from neatledger.core.protection.undoing import Undoing
from neatledger.core.space.forecast import Outlook
from neatledger.core.space.sizes import show_size
from neatledger.core.space.versions import KeptVersions
from neatledger.core.tree.address import Address
from neatledger.formats.names import show_address
from neatledger.formats.shelllines import quoted_text
from neatledger.reports.assurances import assured
from neatledger.reports.forecast import full_words
from neatledger.reports.report import (
    Aside,
    Cell,
    Column,
    Pointer,
    Report,
    Row,
    Show,
    Size,
    count_of,
    moment_cell,
)

__all__ = ["backups_report", "keys_report", "protect_report", "then_report", "wanted_words"]

_COLUMNS = (
    Column("where", "PLACE", cuts=True),
    Column("state", "STATE", Show.MACHINE),
    Column("wanted", "PLANNED", Show.MACHINE),
    Column("loss", "LOSS", Show.MACHINE),
    Column("loss_now", "LOSS NOW", Show.PEOPLE),
    Column("loss_planned", "LOSS PLAN", Show.PEOPLE),
    Column("reach_now", "BACK NOW", Show.PEOPLE),
    Column("reach_planned", "BACK PLAN", Show.PEOPLE),
    Column("missing", "WHAT IS MISSING", Show.PEOPLE, wraps=True),
    Column("loss_minutes", "LOSS_MINUTES", Show.MACHINE, number=True),
    Column("changed", "CHANGES", number=True, spare=True),
    Column("written", "WRITTEN", Show.PEOPLE, wraps=True, spare=True),
    Column("reach", "GOES BACK", Show.MACHINE),
    Column("reach_days", "REACH_DAYS", Show.MACHINE, number=True),
    Column("gap", "LONGEST GAP", spare=True),
    Column("by", "BY", wraps=True, spare=True),
    Column("copies", "ALSO ON", spare=True),
    Column("back", "BACK IN", spare=True),
    Column("back_minutes", "BACK_MINUTES", Show.MACHINE, number=True),
    Column("newest", "NEWEST AT", cuts=True, spare=True),
    Column("undoes", "UNDOES", wraps=True, spare=True),
    Column("restorers", "CAN BRING BACK", wraps=True, spare=True),
    Column("destroyers", "CAN DESTROY ALL", wraps=True, spare=True),
    Column("why", "WHY", Show.MACHINE),
    Column("written_least", "WRITTEN_LEAST", Show.MACHINE, number=True),
    Column("written_most", "WRITTEN_MOST", Show.MACHINE, number=True),
    Column("written_bytes", "WRITTEN_BYTES", Show.MACHINE, number=True),
)
_MANY = 4


class Changed(Protocol):
    """What was done since the last copy."""

    @property
    def records(self) -> int: ...


class Written(Protocol):
    """Files written since the last copy."""

    @property
    def least(self) -> int: ...
    @property
    def most(self) -> int: ...
    @property
    def bytes(self) -> int: ...


class Place(Protocol):
    """One place with its protection."""

    @property
    def address(self) -> Address: ...
    @property
    def standing(self) -> Standing: ...
    @property
    def changed(self) -> Changed | None: ...
    @property
    def written(self) -> Written | None: ...
    @property
    def destroyers(self) -> Sequence[str]: ...
    @property
    def unreached(self) -> Sequence[str]: ...
    @property
    def restorers(self) -> Sequence[str]: ...
    @property
    def untold(self) -> Sequence[str]: ...
    @property
    def undoing(self) -> Undoing: ...


def protect_report(found: Sequence[Place], when: str, *, is_all: bool) -> Report:
    """Show each place, those that are not as wanted first; to people those of which nothing is wanted as a number."""
    ordered = sorted(found, key=lambda one: _RANK.index(_state(one.standing)))
    rows = [_row(one) for one in ordered]
    wanted = [one for one in ordered if not one.standing.wanted.is_nothing]
    off = [one for one in wanted if _state(one.standing) != "as wanted"]
    shown = [_brief(one) for one in (ordered if is_all else off or wanted)]
    weak = [one for one in wanted if _state(one.standing) in ("unprotected", "weaker")]
    bare = sum(_state(one.standing) == "unprotected" for one in weak)
    unsure = sum(_state(one.standing) == "not known" for one in wanted)
    less = "is less protected" if len(weak) == 1 else "are less protected"
    headline = f"{len(weak):,} of {count_of(len(wanted), 'place')} {less} than planned"
    headline += f"; {bare:,} of them {'has' if bare == 1 else 'have'} no backup at all" if bare else ""
    headline += f"; of {unsure:,} it is unknown" if unsure else ""
    headline = headline if wanted else f"{count_of(len(shown), 'place')}, none with a target in the plan"
    is_clean = bool(wanted) and all(_state(one.standing) == "as wanted" for one in wanted)
    places = f"{count_of(len(wanted), 'place')} {'is' if len(wanted) == 1 else 'are all'}"
    said = assured("protect", is_clean, headline, places=places, when=when)
    notes: list[str] = []
    synced = [show_address(one.address) for one in ordered if one.standing.is_synced and not one.standing.points]
    if synced:
        notes.append(f"Sync is no backup: {', '.join(synced)}.")
    unknown = dict.fromkeys(why for one in ordered if one.standing.points for why in one.standing.unknown)
    notes += [f"Not known: {'; '.join(unknown)}."] if unknown else []
    empty = "the plan says nothing of protection: protection: {FOLDER: {loss: 1 day}}"
    report = Report("protect", f"{said.text}.", _COLUMNS, rows, notes, empty, shown, said.is_assured)
    pointers = []
    if weak:
        bare_place = quoted_text(show_address(weak[0].address))
        pointers.append(Pointer("One place whole", f"protect {bare_place}"))
    if len(shown) < len(rows):
        fine, bare_rows = len(wanted) - len(off) if off else 0, len(ordered) - len(wanted)
        rest = [f"{fine:,} as planned"] if fine else []
        rest += [f"{bare_rows:,} without a target"] if bare_rows else []
        more = count_of(len(rows) - len(shown), "more place")
        pointers.append(Pointer(f"{more}: {', '.join(rest)}", "protect -a"))
    report.pointers = pointers
    return report


_RANK = ("unprotected", "not known", "weaker", "as wanted", "protected", "none wanted")


def _state(one: Standing) -> str:
    if one.wanted.is_nothing:
        return "protected" if one.is_protected else "none wanted"
    if not one.is_protected:
        return "not known" if one.unknown else "unprotected"
    return "weaker" if one.faults else "not known" if one.doubts else "as wanted"


def _row(one: Place) -> Row:
    standing = one.standing
    why = [*standing.faults, *standing.doubts, *standing.unknown, *_besides(one)]
    names = list(dict.fromkeys(point.by for point in standing.points))
    return {
        "where": one.address,
        "state": _state(standing),
        "wanted": wanted_words(standing.wanted),
        "loss": _length(standing.loss),
        "loss_minutes": _number(standing.loss, timedelta(minutes=1)),
        "changed": "" if not standing.points else None if one.changed is None else one.changed.records,
        "written": "" if not standing.points else None if one.written is None else _written(one.written),
        "reach": _length(standing.reach),
        "reach_days": _number(standing.reach, timedelta(days=1)),
        "gap": _length(standing.gap),
        "by": "; ".join(names),
        "copies": ", ".join(sorted(standing.copies)),
        "back": _length(standing.back),
        "back_minutes": _number(standing.back, timedelta(minutes=1)),
        "newest": Address(one.address.system, standing.points[0].at)
        if standing.points and standing.points[0].at
        else "",
        "undoes": undoing_words(one.undoing),
        "restorers": _people(one.restorers, one.untold) if standing.points else "",
        "destroyers": _people(one.destroyers, one.unreached) if standing.points else "",
        "why": "; ".join(why),
        "written_least": None if one.written is None else one.written.least,
        "written_most": None if one.written is None else one.written.most,
        "written_bytes": None if one.written is None else one.written.bytes,
    }


def _brief(one: Place) -> Row:
    """Return a row as people see it: what is planned beside what is there, and what is missing in a phrase."""
    standing, wanted = one.standing, one.standing.wanted
    lost = "all" if not standing.points and not standing.unknown else _length(standing.loss) or "?"
    return {
        **_row(one),
        "loss_now": lost,
        "loss_planned": _length(wanted.loss) or "-",
        "reach_now": _length(standing.reach) or ("?" if standing.unknown and not standing.points else "-"),
        "reach_planned": _length(wanted.reach) or "-",
        "missing": _missing(standing) or ("nothing" if not wanted.is_nothing else ""),
    }


def _missing(one: Standing) -> str:
    """Say in a phrase what would be needed to have what is planned."""
    return ", ".join(shortfall.missing for shortfall in (*one.shortfalls, *one.open_questions))


def _besides(one: Place) -> Iterator[str]:
    standing = one.standing
    if standing.is_synced:
        yield "it is only synchronised: a loss is copied too"
    if not standing.points and (one.undoing.undoes_savings or one.undoing.undoes_deletions):
        yield "only single files can be restored, from the bin"


def _written(one: Written) -> str:
    if not one.most:
        return "none"
    number = f"{one.most:,}" if one.least == one.most else f"{one.least:,} to {one.most:,}"
    return f"{number}, ≤ {show_size(one.bytes)}"


def _people(some: Sequence[str], unknown: Sequence[str]) -> str:
    more = f" and {len(some) - _MANY} more" if len(some) > _MANY else ""
    words = ", ".join(some[:_MANY]) + more if some else "nobody"
    return f"{words}; not known of {', '.join(unknown)}" if unknown else words


def undoing_words(one: Undoing) -> str:
    """Return what brings back single files where they were, in words."""
    words = []
    if one.undoes_savings:
        kinds = one.versions or {}
        kept = [
            f"{number} of {kind or 'others'}" if len(kinds) > 1 else str(number) for kind, number in kinds.items()
        ]
        words.append(f"savings ({', '.join(kept)} kept{_seen(one.versions_seen)})")
    if one.undoes_deletions:
        days = "forever" if isinstance(one.bin_days, Unlimited) else f"{one.bin_days} days"
        words.append(f"deletions ({days}{_seen(one.bin_seen)})")
    if words:
        return ", ".join(words)
    return "not known" if one.versions is None or one.bin_days is None else "nothing"


def _seen(files: int | None) -> str:
    return ", none there" if files == 0 else ""


def _number(length: timedelta | None, unit: timedelta) -> int | None:
    return None if length is None else int(length / unit)


def wanted_words(wanted: Wanted) -> str:
    """Return what is wanted, in words."""
    words = []
    if wanted.loss is not None:
        words.append(f"lose {show_duration(wanted.loss)} at most")
    if wanted.reach is not None:
        words.append(f"back {show_duration(wanted.reach)}")
    if wanted.back is not None:
        words.append(f"there in {show_duration(wanted.back)}")
    if wanted.copies:
        words.append(count_of(wanted.copies, "copy") if wanted.copies == 1 else f"{wanted.copies} copies")
    if wanted.elsewhere:
        words.append("one elsewhere")
    return ", ".join(words)


_THEN_COLUMNS = (
    Column("where", "WHERE", cuts=True),
    Column("state", "STATE NOW"),
    Column("loss", "LOST NOW", spare=True),
    Column("reach", "GOES BACK", spare=True),
    Column("then_state", "STATE THEN"),
    Column("then_loss", "LOST AT MOST"),
    Column("then_reach", "GOES BACK", spare=True),
    Column("least_bytes", "MORE SPACE", number=True),
    Column("most_bytes", "AT MOST", number=True),
    Column("pool", "DISK", spare=True),
    Column("full", "FULL NOW", wraps=True, spare=True),
    Column("then_full", "THEN", wraps=True, spare=True),
    Column("why", "WHY", wraps=True),
)


class Then(Protocol):
    """One place as it is and as it would be."""

    @property
    def address(self) -> Address: ...
    @property
    def now(self) -> Standing: ...
    @property
    def then(self) -> Standing: ...
    @property
    def least(self) -> int | None: ...
    @property
    def most(self) -> int | None: ...
    @property
    def outlook(self) -> tuple[Outlook, Outlook] | None: ...


class VersionsThen(Protocol):
    """Old versions of one kind of file, as many as are kept and as many as would be."""

    @property
    def system(self) -> str: ...
    @property
    def kept(self) -> KeptVersions: ...
    @property
    def outlook(self) -> tuple[Outlook, Outlook] | None: ...


def then_report(found: Sequence[Then], versions: Sequence[VersionsThen], when: str) -> Report:
    """Show side by side what would be lost now, and what at most by the rules that are supposed."""
    rows: list[Row] = [
        {
            "where": one.address,
            "state": _state(one.now),
            "loss": _length(one.now.loss),
            "reach": _length(one.now.reach),
            "then_state": _state(one.then),
            "then_loss": _length(one.then.loss),
            "then_reach": _length(one.then.reach),
            "least_bytes": None if one.least is None else Size(one.least) if one.least else "",
            "most_bytes": None if one.most is None else Size(one.most) if one.most else "",
            **_fullness(one.outlook),
            "why": "; ".join(one.then.faults),
        }
        for one in found
        if not (one.now.wanted.is_nothing and not one.then.points)
    ]
    rows += [_versions_row(one) for one in versions]
    free = [one for one in versions if one.kept.freed == (0, 0)]
    shown = [row for row in rows if row["where"] not in {_versions_row(one)["where"] for one in free}]
    mended = sum(bool(one.now.faults) and not one.then.faults for one in found)
    weak = sum(bool(one.then.faults) for one in found)
    headline = f"{count_of(mended, 'place')} more as wanted then, {weak} still not (count of {when})."
    notes: list[str] = [Aside("THEN: right before the next run, if everything runs as the rules say.")]
    if free:
        notes.append(Aside(f"Of {count_of(len(free), 'kind')} of files more or fewer old versions take nothing."))
    if versions:
        notes.append(Aside("Of old versions the space is bounded by the changes seen from count to count."))
    if any(row["pool"] for row in rows):
        notes.append(Aside("FULL: of the pool in which the copies lie, all that is supposed taken at its most."))
    empty = "nothing that the plan wants is concerned"
    return Report("protect-then", headline, _THEN_COLUMNS, rows, notes, empty, shown)


def _fullness(outlook: tuple[Outlook, Outlook] | None) -> dict[str, Cell]:
    if outlook is None:
        return {"pool": "", "full": "", "then_full": ""}
    now, then = outlook
    return {"pool": now.status.target.name, "full": full_words(now), "then_full": full_words(then)}


def _versions_row(one: VersionsThen) -> Row:
    kept, freed = one.kept, one.kept.freed or (0, 0)
    gone = kept.then_kept is not None and kept.then_kept < kept.kept
    return {
        "where": f"{one.system}: old versions of {kept.kind}",
        "state": f"{kept.kept} kept",
        "loss": "",
        "reach": "",
        "then_state": f"{kept.then_kept} kept",
        "then_loss": "" if kept.then_kept else "every saving",
        "then_reach": "",
        "least_bytes": Size(-freed[1]),
        "most_bytes": Size(-freed[0]),
        **_fullness(one.outlook),
        "why": "older ones of each file go" if gone else "",
    }


def _length(length: timedelta | None) -> str:
    return "" if length is None else show_duration(length)


_BACKUP_COLUMNS = (
    Column("system", "SYSTEM"),
    Column("name", "NAME", wraps=True),
    Column("of", "OF", wraps=True),
    Column("on", "LIES ON"),
    Column("every", "EVERY"),
    Column("keep", "KEPT"),
    Column("runs", "RUNS", number=True),
    Column("last", "LAST"),
    Column("bytes", "SIZE", number=True),
    Column("tried", "LAST TRIED"),
    Column("why", "", wraps=True),
)


def backups_report(systems: Mapping[str, tuple[SystemProtection, FoundProtection]]) -> Report:
    """Show each rule of a snapshot or a backup, with what was found of it and when it was last proved."""
    rows: list[Row] = []
    for system, (rules, found) in systems.items():
        rows += [_snapshots_row(system, rule, rules, found) for rule in rules.snapshots]
        rows += [_backup_row(system, rule, found) for rule in rules.backups]
    tried = sum(row["tried"] != "never" for row in rows if row["tried"])
    backups = sum(bool(row["tried"]) for row in rows)
    headline = f"{count_of(len(rows), 'rule')}; something was ever brought back from {tried} of {backups} backups."
    return Report("backups", headline, _BACKUP_COLUMNS, rows, [], "the plan names no snapshots and no backups")


def _snapshots_row(system: str, rule: SnapshotRule, rules: SystemProtection, found: FoundProtection) -> Row:
    moments = [one.moment for one in found.snapshots if one.of == rule.of]
    return {
        **_row_of(system, rule.name, [rule.of], rules.disk, rules.place, moments),
        "every": _length(rule.every),
        "keep": _length(rule.keep),
        "bytes": None if moments else "",
        "tried": "",
        "why": found.unread.get(rule.name, ""),
    }


def _backup_row(system: str, rule: BackupRule, found: FoundProtection) -> Row:
    runs = sorted((one for one in found.runs if one.backup == rule.name and one.is_done), key=lambda one: one.moment)
    name = f"backup {rule.name}"
    size = runs[-1].bytes if runs else None
    return {
        **_row_of(system, name, rule.of, rule.disk, rule.place, [one.moment for one in runs]),
        "every": _length(rule.every),
        "keep": _length(rule.keep),
        "bytes": "" if not runs else None if size is None else Size(size),
        "tried": "never" if rule.tried is None else rule.tried.isoformat(),
        "why": found.unread.get(name, ""),
    }


def _row_of(
    system: str, name: str, of: Sequence[bytes], disk: str, place: str, moments: Sequence[datetime]
) -> dict[str, Cell]:
    return {
        "system": system,
        "name": name,
        "of": ", ".join(one.decode("utf-8", "backslashreplace") for one in of),
        "on": ", ".join(one for one in (disk, place) if one) or "not said",
        "runs": len(moments),
        "last": moment_cell(max(moments)) if moments else "never",
    }


_KEY_COLUMNS = (
    Column("where", "WHERE", cuts=True),
    Column("holders", "WHO HOLDS ITS KEY", wraps=True),
    Column("encrypted", "ITS DEVICE"),
)
_DEVICE = {True: "encrypted", False: "not encrypted", None: "not known"}


def keys_report(systems: Mapping[str, tuple[SystemProtection, FoundProtection]]) -> Report:
    """Show the folders that only a key opens, who holds it, and whether what they lie on is encrypted."""
    rows: list[Row] = [
        {
            "where": Address(system, one.path),
            "holders": ", ".join(one.holders) or "nobody is named",
            "encrypted": _DEVICE[found.encrypted.get(one.path)],
        }
        for system, (rules, found) in systems.items()
        for one in rules.encrypted
    ]
    headline = f"{count_of(len(rows), 'folder')} that only a key opens."
    return Report("keys", headline, _KEY_COLUMNS, rows, [], "the plan names no encrypted folder")
