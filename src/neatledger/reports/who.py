"""Who can reach one folder: a row a person and way, those with the most first."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import replace

from neatledger.core.access.ways import Access
from neatledger.core.lists.contract import Names
from neatledger.core.lists.rights import Level
from neatledger.core.people.principals import Principal
from neatledger.core.plan.plan import Kind
from neatledger.core.tree.address import Address
from neatledger.reports.access import ACCESS_COLUMNS, access_row
from neatledger.reports.report import Cell, Column, Report, Show, count_of

__all__ = ["who_report"]

_ORDER = [
    Level.MANAGE,
    Level.WRITE,
    Level.MIXED,
    Level.DROP,
    Level.READ,
    Level.VIEW,
    Level.LIST,
    Level.UNKNOWN,
    Level.NONE,
]
_FEW = 3


def _rank(row: Sequence[Cell]) -> tuple[bool, int, str]:
    level = Level(str(row[5]))
    # Administrators open everything everywhere; the people whom the lists let in come first.
    return row[4] == "admin", _ORDER.index(level), str(row[0])


def who_report(
    address: Address, asked: Iterable[Access], names: Names, when: str, *, is_all: bool, machine: bool
) -> Report:
    """Make the report of all people's access to one folder.

    In machine formats every person has a row for each way and one for their union; for people, what an
    administrator's account has by lists is left out beside what it has by its role, service accounts with
    the same rights share a row, and those with none are counted.
    """
    rows: list[Sequence[Cell]] = []
    without = people = open_questions = 0
    asked = list(asked)
    for access in asked:
        people += 1
        if machine:
            rows += [access_row(address, way, access, names) for way in access.ways]
            rows.append(access_row(address, None, access, names))
            continue
        admins = {way.principal.account.login for way in access.ways if way.name == "admin"}
        shown = [way for way in access.ways if way.name == "admin" or way.principal.account.login not in admins]
        telling = [way for way in shown if is_all or way.rights or not way.is_known]
        without += not telling
        open_questions += bool(telling) and not access.is_known and not access.rights
        rows += [access_row(address, way, access, names) for way in telling]
        is_covered = any(way.rights == access.rights and way.counts == access.counts for way in telling)
        if len(telling) > 1 and not is_covered:
            rows.append(access_row(address, None, access, names))
    rows.sort(key=_rank)
    if not machine:
        rows = _fold(rows, {each.principal.person: each.principal for access in asked for each in access.ways})
    notes = []
    if without:
        message = "person has" if without == 1 else "people have"
        notes.append(f"{without} more {message} no right here (--all lists them).")
    what = "folder" if all(access.is_folder for access in asked) else "file"
    files = next((access.counts.files for access in asked if access.counts), None)
    holds = "" if files is None else f" It holds {count_of(files, 'file')}." if files else " It holds no files."
    reach = people - without - open_questions
    headline = f"{reach} of {count_of(people, 'person')} can reach this {what} (count of {when}).{holds}"
    if open_questions:
        headline += f" Of {open_questions} it is not known."
    columns = _columns(rows, machine, bool(files))
    keep = [place for place, column in enumerate(ACCESS_COLUMNS) if column in columns]
    cells: list[Sequence[Cell]] = [[row[place] for place in keep] for row in rows]
    return Report(
        "who", headline, [_as_shown(column) for column in columns], cells, notes, "nobody has any right here"
    )


def _as_shown(column: Column) -> Column:
    return replace(column, show=Show.ALWAYS) if column.key == "account" else column


def _columns(rows: Sequence[Sequence[Cell]], machine: bool, has_files: bool) -> list[Column]:
    if machine:
        return list(ACCESS_COLUMNS)
    hidden = {"folder", "files"}
    if all(row[4] == "share" for row in rows):
        hidden.add("way")
    accounts = {(row[0], row[1]) for row in rows if row[4] != "any"}
    shown = {"account"} if len({person for person, _ in accounts}) != len(accounts) else set()
    if not has_files:
        hidden |= {"files_read", "files_change", "files_delete"}
    return [
        column
        for column in ACCESS_COLUMNS
        if column.key in shown or (column.key not in hidden and column.show is not Show.MACHINE)
    ]


def _fold(rows: list[Sequence[Cell]], principals: Mapping[str, Principal]) -> list[Sequence[Cell]]:
    """Fold service accounts that stand for themselves and have the same rights into one row."""
    alike: dict[tuple[Cell, ...], list[Sequence[Cell]]] = {}
    for row in rows:
        principal = principals[str(row[0])]
        same: tuple[Cell, ...] = (str(row[0]),)
        if principal.kind is Kind.SERVICE and not principal.is_planned:
            same = ("", *row[4:])
        alike.setdefault(same, []).append(row)
    folded: list[Sequence[Cell]] = []
    for same, group in alike.items():
        if same[0] or len(group) <= _FEW:
            folded += group
        else:
            shown = ", ".join(str(row[0]) for row in group[:_FEW])
            folded.append((f"{len(group)} service accounts ({shown}, …)", *group[0][1:]))
    return folded
