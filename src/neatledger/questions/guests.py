"""Who is a guest, by whom, and what they reach."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace

from neatledger.core.access.everyone import Everyone, RowFilter, flag_rights
from neatledger.core.lists.rights import Level, level_of
from neatledger.core.people.principals import Principal
from neatledger.core.plan.plan import Kind
from neatledger.core.sharing.holders import ANY_GUEST
from neatledger.core.tree.table import folder_paths
from neatledger.questions import single_files
from neatledger.questions.office import Office

__all__ = ["Guest", "ask"]


@dataclass(frozen=True, slots=True)
class Guest:
    """One guest: the folders where what they reach begins, each with its level, and how many they reach in all.

    `files` are those that they reach by a hand-out or link of the file alone.
    """

    principal: Principal
    tops: tuple[tuple[Level, bytes], ...]
    folders: int
    files: tuple[tuple[Level, bytes], ...] = ()


def ask(office: Office) -> list[Guest]:
    """Return the guests of every system."""
    found: list[Guest] = []
    for system in office.readers:
        guests = [
            principal
            for principal in office.systems.holders[system]
            if principal.kind is Kind.GUEST and principal.person != ANY_GUEST
        ]
        if guests:
            alone: dict[str, list[tuple[Level, bytes]]] = {}
            for one in single_files.ask(office, system, guests):
                for login in {way.principal.account.login for way in one.ways}:
                    alone.setdefault(login, []).append((one.access.level_of(None), one.address.path))
            reached = _reached(office.systems.everyone(system, guests, is_narrow=True), guests)
            found += [replace(one, files=tuple(alone.get(one.principal.account.login, ()))) for one in reached]
    return found


def _reached(everyone: Everyone, guests: Sequence[Principal]) -> list[Guest]:
    path_of = folder_paths(everyone.matrix.folders)
    tops: dict[str, list[tuple[Level, bytes]]] = {guest.account.login: [] for guest in guests}
    counts = dict.fromkeys(tops, 0)
    for login, folder, level in _rows(everyone, RowFilter.DIFFER):
        if login in tops and level is not Level.NONE:
            tops[login].append((level, path_of(folder)))
    for login, _, _ in _rows(everyone, RowFilter.EVERY):
        if login in counts:
            counts[login] += 1
    return [Guest(one, tuple(tops[one.account.login]), counts[one.account.login]) for one in guests]


def _rows(everyone: Everyone, which: RowFilter) -> Iterator[tuple[str, int, Level]]:
    """Yield login, folder and level of the rows by all ways together, an administrator's too."""
    # Who has one way alone has no row for the union.
    whole: dict[str, int] = {}
    for number, column in enumerate(everyone.columns):
        if column.way in (everyone.matrix.ways[0], "any") and len(column.principals) == 1:
            whole[everyone.matrix.principals[column.principals[0]].account.login] = number
    logins = {number: login for login, number in whole.items()}
    for block in everyone.blocks(which):
        for folder, number, flags, unknown in zip(
            *(each.tolist() for each in (block.folder, block.column, block.flags, block.unknown)), strict=True
        ):
            if number in logins:
                yield logins[number], folder, Level.UNKNOWN if unknown else level_of(flag_rights(flags))
