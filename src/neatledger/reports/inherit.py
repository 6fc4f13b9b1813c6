"""What a new item gets in a folder, and what pushing the folder's list down would change, as rows."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from neatledger.core.access.pushing import Pushed
from neatledger.core.lists.contract import Names
from neatledger.core.lists.rights import Right, spell_rights
from neatledger.core.tree.address import Address
from neatledger.reports.report import Cell, Column, Report, count_of

__all__ = ["new_child_report", "push_report"]

_NEW = (Column("what", "A NEW"), Column("entry", "GETS", wraps=True))
_PUSH = (
    Column("folder", "FOLDER", cuts=True),
    Column("what", "WHAT"),
    Column("lost_entries", "ENTRIES OF ITS OWN THAT GO", wraps=True),
    Column("lose", "WHO LOSES", wraps=True),
    Column("gain", "WHO GAINS", wraps=True),
)
_FEW = 3


def new_child_report(place: str, maker: str, folder: Sequence[str], file: Sequence[str], notes: list[str]) -> Report:
    """Say what a new folder and a new file get, entry by entry."""
    rows: list[Sequence[Cell]] = []
    for what, entries in (("folder", folder), ("file", file)):
        rows += [(what if number == 0 else "", entry) for number, entry in enumerate(entries)]
    return Report("inherit", f"What {maker} makes in {place} gets:", _NEW, rows, notes)


def _people(message: Mapping[str, Right], machine: bool) -> tuple[str, ...]:
    """Fold people with the same rights, and many into a few."""
    by_rights: dict[Right, list[str]] = {}
    for person, rights in message.items():
        by_rights.setdefault(rights, []).append(person)
    lines = []
    for rights, people in by_rights.items():
        shown = people if machine or len(people) <= _FEW + 1 else [*people[:_FEW], f"{len(people) - _FEW} more"]
        lines.append(f"{' + '.join(shown)} ({spell_rights(rights)})")
    return tuple(lines)


def push_report(
    place: str, pushed: Sequence[tuple[Address, Pushed]], names: Names, *, keeps_own: bool, machine: bool
) -> Report:
    """List what would change, folder by folder."""
    rows: list[Sequence[Cell]] = []
    # Where nobody gains or loses and no entry goes, only marks change: a person need not see that.
    shown = pushed if machine else [each for each in pushed if each[1].lost or each[1].loses or each[1].gains]
    for address, one in shown:
        lost = tuple(entry.word(names) for entry in one.lost)
        what = count_of(one.files, "file") if one.files else "folder"
        rows.append((address, what, lost, _people(one.loses, machine), _people(one.gains, machine)))
    folders, files = sum(not one.files for _, one in pushed), sum(one.files for _, one in pushed)
    losers = {person for _, one in pushed for person in one.loses}
    gainers = {person for _, one in pushed for person in one.gains}
    how = "keeping entries of their own" if keeps_own else "replacing every list below"
    headline = (
        f"Pushing the list of {place} down, {how}: {count_of(len(losers), 'person')} would lose something, "
        f"{count_of(len(gainers), 'person')} gain; {count_of(folders, 'folder')}, {count_of(files, 'file')} change."
    )
    notes = ["Nothing was changed. Rights are those of the lists alone: what stands before them stays as it is."]
    if len(shown) < len(pushed):
        notes.append(
            f"{len(pushed) - len(shown)} more only get their entries written anew: nobody gains or loses by it."
        )
    if not keeps_own and any(one.lost for _, one in pushed):
        notes.append("--keep-own would leave entries of their own in place, and closed folders alone.")
    return Report("push", headline, _PUSH, rows, notes, "every list below is already what it would become")
