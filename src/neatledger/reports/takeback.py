"""What taking something back would take from whom, and who still gets in another way."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Protocol

from neatledger.core.lists.rights import Level, Right, level_of, level_of_file, spell_rights
from neatledger.core.people.principals import Principal
from neatledger.core.sharing.takeback import FileLoss, Loss
from neatledger.core.tree.address import Address
from neatledger.reports.assurances import assured
from neatledger.reports.report import Column, Report, Row, count_of

__all__ = ["takeback_report"]

_COLUMNS = (
    Column("person", "PERSON", cuts=True),
    Column("way", "WAY"),
    Column("folder", "FOLDER", cuts=True),
    Column("folders", "FOLDERS", number=True),
    Column("lost", "LOSES", wraps=True),
    Column("kept", "STILL HAS", wraps=True),
)


class TakenBack(Protocol):
    """Who loses what on one service, and in words what is taken back; folders are known by row."""

    @property
    def system(self) -> str: ...
    @property
    def losses(self) -> Sequence[Loss]: ...
    @property
    def file_losses(self) -> Sequence[FileLoss]: ...
    @property
    def principals(self) -> Sequence[Principal]: ...
    @property
    def path_of(self) -> Callable[[int], bytes]: ...
    @property
    def parents(self) -> Sequence[int]: ...
    @property
    def sentences(self) -> Sequence[str]: ...


def takeback_report(found: TakenBack, when: str) -> Report:
    """Make the table: every folder; for people a row where a loss begins, with how many folders it holds for."""
    losses: list[Loss | FileLoss] = [*found.losses, *found.file_losses]
    people = {found.principals[loss.principal].person for loss in losses}
    staying = {found.principals[loss.principal].person for loss in losses if loss.kept & (Right.LIST | Right.READ)}
    taken = " and ".join(found.sentences)
    headline = f"Taking back {taken}: {count_of(len(people), 'person')} would lose something (count of {when})."
    notes = []
    if staying:
        notes.append(f"Still in by another way: {', '.join(sorted(staying))}.")
    if people - staying:
        notes.append(f"No longer in there at all: {', '.join(sorted(people - staying))}.")
    notes.append("Nothing was changed.")
    rows, folded = (_rows(found, is_folded=is_folded) for is_folded in (False, True))
    said = assured("take-back", not rows, "")
    return Report(
        "suppose", headline, _COLUMNS, said.or_rows(rows), notes, said.text, said.or_rows(folded), said.is_assured
    )


def _rows(found: TakenBack, *, is_folded: bool) -> list[Row]:
    by_key = {(loss.folder, loss.principal, loss.way): loss for loss in found.losses}
    tops: dict[tuple[int, int, str], int] = {}
    top_of: dict[tuple[int, int, str], tuple[int, int, str]] = {}
    for key, loss in by_key.items():
        above = (int(found.parents[loss.folder]), *key[1:])
        is_same = is_folded and above in top_of and by_key[above].is_like(loss)
        top_of[key] = top_of[above] if is_same else key
        tops[top_of[key]] = tops.get(top_of[key], 0) + 1
    rows: list[Row] = [
        {
            "person": found.principals[by_key[key].principal].person,
            "way": by_key[key].way,
            "folder": Address(found.system, found.path_of(by_key[key].folder)),
            "folders": count,
            "lost": spell_rights(by_key[key].lost),
            "kept": _say(by_key[key].kept),
        }
        for key, count in tops.items()
    ]
    # Of a single file no folder holds anything.
    rows += [
        {
            "person": found.principals[loss.principal].person,
            "way": loss.way,
            "folder": Address(found.system, loss.path),
            "folders": "1 file" if is_folded else 0,
            "lost": spell_rights(loss.lost),
            "kept": level_of_file(loss.kept).value,
        }
        for loss in found.file_losses
    ]
    rows.sort(key=lambda row: (str(row["person"]), str(row["folder"]), str(row["way"])))
    return rows


def _say(kept: Right) -> str:
    level = level_of(kept)
    return spell_rights(kept) if level is Level.MIXED else level.value
