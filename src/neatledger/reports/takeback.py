"""What taking something back would take from whom, and who still gets in another way."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from neatledger.core.lists.rights import Level, Right, level_of, spell_rights
from neatledger.core.people.principals import Principal
from neatledger.core.sharing.takeback import Loss
from neatledger.core.tree.address import Address
from neatledger.reports.report import Cell, Column, Report, count_of

__all__ = ["takeback_report"]

_COLUMNS = (
    Column("person", "PERSON", cuts=True),
    Column("way", "WAY"),
    Column("folder", "FOLDER", cuts=True),
    Column("folders", "FOLDERS", number=True),
    Column("lost", "LOSES", wraps=True),
    Column("kept", "STILL HAS", wraps=True),
)


def takeback_report(
    system: str,
    losses: Sequence[Loss],
    principals: Sequence[Principal],
    path_of: Callable[[int], bytes],
    parent: Sequence[int],
    sentences: Sequence[str],
    when: str,
    *,
    machine: bool,
) -> Report:
    """Make the table: for people a row where a loss begins, with how many folders it holds for; else every folder."""
    cells = {(loss.folder, loss.principal, loss.way): (loss.lost, loss.kept) for loss in losses}
    tops: dict[tuple[int, int, str], int] = {}
    top_of: dict[tuple[int, int, str], tuple[int, int, str]] = {}
    for loss in losses:
        key = loss.folder, loss.principal, loss.way
        above = int(parent[loss.folder]), loss.principal, loss.way
        is_same = not machine and above in top_of and cells[above] == cells[key]
        top_of[key] = top_of[above] if is_same else key
        tops[top_of[key]] = tops.get(top_of[key], 0) + 1
    rows: list[Sequence[Cell]] = []
    for (folder, principal, way), count in tops.items():
        lost, kept = cells[folder, principal, way]
        address = Address(system, path_of(folder))
        rows.append((principals[principal].person, way, address, count, spell_rights(lost), _say(kept)))
    rows.sort(key=lambda row: (str(row[0]), str(row[2]), str(row[1])))
    people = {principals[loss.principal].person for loss in losses}
    staying = {principals[loss.principal].person for loss in losses if loss.kept & Right.LIST}
    taken = " and ".join(sentences)
    headline = f"Taking back {taken}: {count_of(len(people), 'person')} would lose something (count of {when})."
    notes = []
    if staying:
        notes.append(f"Still in by another way: {', '.join(sorted(staying))}.")
    if people - staying:
        notes.append(f"No longer in there at all: {', '.join(sorted(people - staying))}.")
    notes.append("Nothing was changed.")
    return Report("suppose", headline, _COLUMNS, rows, notes, "nobody would lose anything")


def _say(kept: Right) -> str:
    level = level_of(kept)
    return spell_rights(kept) if level is Level.MIXED else level.value
