"""What a new item gets in a folder, and what pushing the folder's list down would change, as rows."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Protocol

from neatledger.core.access.pushing import Pushed
from neatledger.core.lists.contract import Names
from neatledger.core.lists.rights import Right, spell_rights
from neatledger.core.tree.address import Address
from neatledger.reports.assurances import assured
from neatledger.reports.report import Aside, Column, Report, Row, count_of

__all__ = ["new_child_report", "push_report"]

_NEW = (Column("what", "A NEW"), Column("entry", "GETS", wraps=True))
_PUSH = (
    Column("folder", "FOLDER", cuts=True),
    Column("what", "WHAT"),
    Column("lost_entries", "OWN ENTRIES REMOVED", wraps=True),
    Column("lose", "WHO LOSES", wraps=True),
    Column("gain", "WHO GAINS", wraps=True),
)
_FEW = 3


class Made(Protocol):
    """What somebody makes in a folder gets (see `questions.inherit.NewItems`)."""

    @property
    def made_by(self) -> str: ...
    @property
    def folder(self) -> Sequence[str]: ...
    @property
    def file(self) -> Sequence[str]: ...
    @property
    def own(self) -> Sequence[str]: ...
    @property
    def is_by_mode(self) -> bool: ...
    @property
    def is_assumed(self) -> bool: ...
    @property
    def group(self) -> str: ...
    @property
    def keeps_group(self) -> bool: ...


def new_child_report(place: str, made: Made) -> Report:
    """Say what a new folder and a new file get, entry by entry."""
    rows: list[Row] = []
    folded: list[Row] = []
    for what, entries in (("folder", made.folder), ("file", made.file)):
        rows += [{"what": what, "entry": entry} for entry in entries]
        folded += [{"what": what if number == 0 else "", "entry": entry} for number, entry in enumerate(entries)]
    notes = [f"The folder's own list: {'; '.join(made.own)}."]
    if made.group:
        whose = "the folder hands its own group down (setgid)" if made.keeps_group else "that of whoever makes it"
        notes.append(f"Its group is {made.group}: {whose}.")
    if made.is_by_mode:
        notes.append("The folder has no default list: a new item has the mode that the usual umask 022 leaves.")
    if made.is_assumed:
        notes.append("Nothing in the folder's list is for new items: taken here is what its system usually gives.")
    return Report("inherit", f"What {made.made_by} makes in {place} gets:", _NEW, rows, notes, folded=folded)


def _people(rights_of: Mapping[str, Right], most: int | None) -> tuple[str, ...]:
    """Fold people with the same rights; of more than `most` with one more the first are named."""
    by_rights: dict[Right, list[str]] = {}
    for person, rights in rights_of.items():
        by_rights.setdefault(rights, []).append(person)
    lines = []
    for rights, people in by_rights.items():
        shown = people if most is None or len(people) <= most + 1 else [*people[:most], f"{len(people) - most} more"]
        lines.append(f"{' + '.join(shown)} ({spell_rights(rights)})")
    return tuple(lines)


def push_report(place: str, pushed: Sequence[tuple[Address, Pushed]], names: Names, *, keeps_own: bool) -> Report:
    """List what would change, folder by folder."""
    rows = [_push_row(address, one, names, None) for address, one in pushed]
    # Where nobody gains or loses and no entry goes, only marks change: a person need not see that.
    shown = [(address, one) for address, one in pushed if one.lost or one.loses or one.gains]
    folded = [_push_row(address, one, names, _FEW) for address, one in shown]
    folders, files = sum(not one.files for _, one in pushed), sum(one.files for _, one in pushed)
    losers = {person for _, one in pushed for person in one.loses}
    gainers = {person for _, one in pushed for person in one.gains}
    how = "keeping entries of their own" if keeps_own else "replacing every list below"
    headline = (
        f"Pushing the list of {place} down, {how}: {count_of(len(losers), 'person')} would lose something, "
        f"{count_of(len(gainers), 'person')} gain; {count_of(folders, 'folder')}, {count_of(files, 'file')} change."
    )
    notes: list[str] = ["Nothing was changed. Only lists are compared: share permissions stay as they are."]
    if len(shown) < len(pushed):
        more = f"{len(pushed) - len(shown)} more only get their entries written anew: nobody gains or loses by it."
        notes.append(Aside(more))
    if not keeps_own and any(one.lost for _, one in pushed):
        notes.append("--keep-own would leave entries of their own in place, and closed folders alone.")
    said = assured("push", not pushed, "")
    return Report(
        "push", headline, _PUSH, said.or_rows(rows), notes, said.text, said.or_rows(folded), said.is_assured
    )


def _push_row(address: Address, one: Pushed, names: Names, most: int | None) -> Row:
    return {
        "folder": address,
        "what": count_of(one.files, "file") if one.files else "folder",
        "lost_entries": tuple(entry.word(names) for entry in one.lost),
        "lose": _people(one.loses, most),
        "gain": _people(one.gains, most),
    }
