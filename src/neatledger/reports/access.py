"""Access as rows: the same columns for one folder, one person, or everything."""

from __future__ import annotations

from collections.abc import Mapping

from neatledger.core.access import Access, FileCounts, Way
from neatledger.core.lists.contract import Effect
from neatledger.core.plan import Address
from neatledger.core.rights import Level, Right, level_of
from neatledger.reports.report import Cell, Column, Show

__all__ = ["ACCESS_COLUMNS", "access_row", "short_rights", "spell_files", "way_by"]

ACCESS_COLUMNS = (
    Column("person", "PERSON", cuts=True),
    Column("account", "ACCOUNT", Show.MACHINE),
    Column("system", "SYSTEM", Show.MACHINE),
    Column("folder", "FOLDER", cuts=True),
    Column("way", "WAY"),
    Column("level", "LEVEL"),
    Column("enter", "ENTER", Show.MACHINE),
    Column("list", "LIST", Show.MACHINE),
    Column("add", "ADD", Show.MACHINE),
    Column("delete", "DELETE", Show.MACHINE),
    Column("manage", "MANAGE", Show.MACHINE),
    Column("rights", "RIGHTS HERE", Show.PEOPLE),
    Column("files", "FILES", Show.MACHINE, number=True),
    Column("files_read", "READ", Show.MACHINE, number=True),
    Column("files_change", "CHANGE", Show.MACHINE, number=True),
    Column("files_delete", "DELETE", Show.MACHINE, number=True),
    Column("of_files", "OF ITS FILES", Show.PEOPLE),
    Column("by", "BY", cuts=True),
)
"""The columns of every table of access; the first fifteen of CSV are kept as they are."""

_TOLD = (Right.ENTER, Right.LIST, Right.ADD, Right.DELETE, Right.MANAGE)


def short_rights(rights: Right) -> str:
    """Spell the five rights on a folder itself."""
    words = {right: (right.name or "").lower() for right in _TOLD}
    return " ".join(word for right, word in words.items() if rights & right) or "-"


def spell_files(counts: FileCounts | None) -> str:
    """Say how many of a folder's files can be read, changed and removed."""
    if counts is None:
        return "not seen"
    if not counts.files:
        return "no files"
    told = [(counts.read, "reads"), (counts.change, "changes"), (counts.delete, "removes")]
    if counts.read == counts.change == counts.delete:
        return f"reads, changes, removes {_of(counts.read, counts.files)}"
    return ", ".join(f"{word} {_of(number, counts.files)}" for number, word in told)


def _of(number: int, files: int) -> str:
    if number in (0, files):
        return f"{'all ' if number else 'none of '}{files:,}"
    return f"{number:,} of {files:,}"


def way_by(way: Way, names: Mapping[str, str]) -> str:
    """Say which entry gives a way its rights, or which gate stops it first."""
    stop = way.first_stop
    gate = stop or way.gates[-1]
    where = "" if stop is None or gate.name != "enter" else f" on {gate.place.decode(errors='replace')}"
    said = [reason for reason in gate.reasons if reason.effect is not Effect.LIMITS]
    if not said:
        return gate.name
    text = names.get(said[0].entry, said[0].entry)
    return f"stopped by {text}{where}" if stop else text


def access_row(address: Address, way: Way | None, access: Access, names: Mapping[str, str]) -> tuple[Cell, ...]:
    """Return the row of one way, or of the union of all ways where `way` is None."""
    seats = {each.seat.account.login: each.seat for each in access.ways}
    rights = access.rights if way is None else way.rights
    known = access.is_known if way is None else way.is_known
    counts = access.counts if way is None else way.counts
    level = level_of(rights) if known else Level.UNKNOWN
    flags: list[Cell] = [bool(rights & right) if known else None for right in _TOLD]
    files: list[Cell] = [None] * 4
    if counts is not None:
        files = [counts.files, counts.read, counts.change, counts.delete]
    return (
        access.person,
        "+".join(seats) if way is None else way.seat.account.login,
        address.system,
        address,
        "any" if way is None else way.name,
        level.value,
        *flags,
        short_rights(rights) if known else "not known: a list on the way was not seen",
        *files,
        spell_files(counts) if known else "?",
        way_by(way, names) if way else "",
    )
