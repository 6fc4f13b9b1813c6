"""Access as a row: the same columns for one folder, one person, or everything."""

from __future__ import annotations

from collections.abc import Iterable
from functools import lru_cache

from neatledger.core.access.ways import Access, FileCounts, Way
from neatledger.core.lists.contract import Names
from neatledger.core.lists.rights import LEVEL_RIGHTS, Level, Right, level_of, level_of_file, spell_rights, with_view
from neatledger.core.tree.address import Address
from neatledger.formats.ways import WAY_WORDS, through_words, way_by
from neatledger.reports.report import Column, Row, Show

__all__ = [
    "ACCESS_COLUMNS",
    "FLAGS",
    "access_row",
    "can_words",
    "file_row",
    "known_part",
    "rows_of_level",
    "short_rights",
    "spell_files",
]

ACCESS_COLUMNS = (
    Column("person", "PERSON", cuts=True),
    Column("account", "ACCOUNT", Show.MACHINE),
    Column("system", "SYSTEM", Show.MACHINE),
    Column("folder", "FOLDER", cuts=True),
    Column("can", "CAN", Show.PEOPLE, wraps=True),
    Column("through", "THROUGH", Show.PEOPLE, wraps=True),
    Column("way", "WAY", Show.MACHINE),
    Column("level", "LEVEL", Show.MACHINE),
    Column("enter", "ENTER", Show.MACHINE),
    Column("list", "LIST", Show.MACHINE),
    Column("add", "ADD", Show.MACHINE),
    Column("delete", "DELETE", Show.MACHINE),
    Column("manage", "MANAGE", Show.MACHINE),
    Column("files", "FILES", number=True),
    Column("files_read", "READ", number=True, spare=True),
    Column("files_change", "CHANGE", number=True, spare=True),
    Column("files_delete", "DELETE", number=True, spare=True),
    Column("by", "BY", Show.MACHINE),
    Column("read", "READ", Show.MACHINE),
    Column("view", "VIEW", Show.MACHINE),
)
"""The columns of every table of access; the first fifteen of CSV are kept as they are."""

_NOT_KNOWN = "what it hangs on was not seen or told"
_TOLD = (Right.ENTER, Right.LIST, Right.ADD, Right.DELETE, Right.MANAGE)


@lru_cache(maxsize=1024)
def short_rights(rights: Right) -> str:
    """Say what the level's name leaves open: removal of the folder itself, or a mixed set spelled out."""
    level = level_of(rights)
    if level is Level.MIXED:
        words = {right: (right.name or "").lower() for right in _TOLD}
        if not rights & Right.READ:
            words[Right.VIEW] = "view"
        return " ".join(word for right, word in words.items() if rights & right)
    return "may delete it" if rights & Right.DELETE else ""


FLAGS = "flags"
"""What a row has its rights by, as a number; no column of any table."""
_CAN = {Level.NONE.value: "no access", Level.ADD_ONLY.value: "add only"}


def can_words(level: str, more: str) -> str:
    """Say what somebody can do, in a few words; `more` is what the level leaves open (`short_rights`)."""
    if level == Level.MIXED.value:
        return more.replace(" ", ", ")
    if level == Level.UNKNOWN.value:
        return f"? ({more})" if more else "unknown"
    return f"{_CAN.get(level, level)}{', delete' if more else ''}"


def known_part(rights: Right, *, is_folder: bool = True) -> str:
    """Say of somebody of whom it is not known what they have what is known of it."""
    if not rights & ~Right.ENTER:
        return _NOT_KNOWN
    level = level_of(rights) if is_folder else level_of_file(rights)
    least = level.value if level not in (Level.MIXED, Level.NONE) else spell_rights(rights)
    return f"at least {least}; more may hang on what was not seen or told"


def spell_files(counts: FileCounts | None) -> str:
    """Say how many of a folder's files can be read, changed and removed."""
    if counts is None:
        return "not seen"
    if not counts.files:
        return "no files"
    parts = [(counts.read, "reads"), (counts.change, "changes"), (counts.delete, "removes")]
    if counts.read == counts.change == counts.delete:
        return f"reads, changes, removes {_of(counts.read, counts.files)}"
    return ", ".join(f"{word} {_of(number, counts.files)}" for number, word in parts)


def _of(number: int, files: int) -> str:
    if number in (0, files):
        return f"{'all ' if number else 'none of '}{files:,}"
    return f"{number:,} of {files:,}"


_TELLING = Right.ENTER | Right.LIST | Right.ADD | Right.MANAGE | Right.READ | Right.VIEW
"""What tells levels apart: what is written, one may or may not remove as well."""


def rows_of_level(rows: Iterable[Row], level: str) -> tuple[list[Row], list[Row]]:
    """Return the rows whose rights have all that a level gives, and those of which nobody can tell.

    A set without a name of its own counts by what is in it: read and delete are at least read.
    """
    wanted = with_view(LEVEL_RIGHTS[Level(level)])
    names = {name.value for name, rights in LEVEL_RIGHTS.items() if not wanted & ~with_view(rights)}
    sure: list[Row] = []
    unsure: list[Row] = []
    for row in rows:
        has = with_view(Right(int(str(row[FLAGS]))))
        if row["level"] in names or (row["level"] == Level.MIXED.value and not wanted & _TELLING & ~has):
            sure.append(row)
        elif row["level"] == Level.UNKNOWN.value:
            unsure.append(row)
    return sure, unsure


def file_row(address: Address, way: Way, access: Access, names: Names) -> Row:
    """Return the row of one way to a single file, counted as the one file that it is."""
    found = {"files_read": Right.READ | Right.VIEW, "files_change": Right.CHANGE, "files_delete": Right.DELETE}
    counts = {key: int(bool(way.rights & right)) if way.is_known else None for key, right in found.items()}
    return {**access_row(address, way, access, names), "files": 1, **counts}


def access_row(address: Address, way: Way | None, access: Access, names: Names) -> Row:
    """Return the row of one way, or of the union of all ways where `way` is None."""
    principals = {each.principal.account.login: each.principal for each in access.ways}
    rights = access.rights if way is None else way.rights
    is_known = access.is_known if way is None else way.is_known
    counts = access.counts if way is None else way.counts
    also = short_rights(rights) if access.is_folder else spell_rights(rights)
    level = access.level_of(way).value
    more = short_rights(rights) if is_known else known_part(rights, is_folder=access.is_folder)
    return {
        "person": access.person,
        "account": "+".join(principals) if way is None else way.principal.account.login,
        "system": address.system,
        "folder": address,
        "way": "any" if way is None else way.name,
        "can": can_words(level, more),
        "through": through_words(way, names, address.system) if way else WAY_WORDS["any"],
        "level": level,
        FLAGS: int(rights),
        **{(right.name or "").lower(): bool(rights & right) if is_known else None for right in _TOLD},
        "rights": also if is_known else known_part(rights, is_folder=access.is_folder),
        "files": counts.files if counts else None,
        "files_read": counts.read if counts else None,
        "files_change": counts.change if counts else None,
        "files_delete": counts.delete if counts else None,
        "by": way_by(way, names) if way else "",
        "read": bool(rights & Right.READ) if is_known else None,
        "view": bool(rights & (Right.READ | Right.VIEW)) if is_known else None,
    }
