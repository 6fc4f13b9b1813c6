"""Two people or groups beside each other, and who can do the most."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Protocol

from neatledger.core.access.comparing import AccessChange
from neatledger.core.access.people_flags import known_rights
from neatledger.core.lists.rights import Right, spell_rights
from neatledger.core.space.sizes import show_size
from neatledger.core.tree.address import Address
from neatledger.reports.assurances import assured
from neatledger.reports.change_words import level_word, sums_of_files
from neatledger.reports.report import Aside, Column, Report, Row, Show, Size, count_of

__all__ = ["compare_report", "like_report", "most_report"]


class Named(Protocol):
    """One of the two."""

    @property
    def name(self) -> str: ...
    @property
    def label(self) -> str: ...


class Different(Protocol):
    """A folder on which, or with whose files, the two may do different things."""

    @property
    def address(self) -> Address: ...
    @property
    def change(self) -> AccessChange: ...
    @property
    def by(self) -> str: ...


class Beside(Protocol):
    """Both of them."""

    @property
    def left(self) -> Named: ...
    @property
    def right(self) -> Named: ...
    @property
    def only_left(self) -> Sequence[str]: ...
    @property
    def only_right(self) -> Sequence[str]: ...
    @property
    def differences(self) -> Sequence[Different]: ...
    @property
    def systems(self) -> Sequence[str]: ...
    @property
    def folders(self) -> int: ...


def compare_report(found: Beside, when: str) -> Report:
    """Show where two may do different things; a row holds for all below it that is alike."""
    left, right = found.left.name, found.right.name
    columns = (
        Column("folder", "FOLDER", wraps=True),
        Column("left", found.left.label.upper()),
        Column("right", found.right.label.upper()),
        Column("only_left", "", Show.MACHINE),
        Column("only_right", "", Show.MACHINE),
        Column("with_files", "FILES", wraps=True),
        Column("folders", "FOLDERS", number=True),
        Column("by", "WHERE IT COMES FROM", wraps=True),
    )
    rows: list[Row] = []
    more = [0, 0]
    unsure = 0
    for one in found.differences:
        change = one.change
        only_left = known_rights(change.before & ~change.after) if change.is_known else Right.NONE
        only_right = known_rights(change.after & ~change.before) if change.was_known else Right.NONE
        more[0] += change.folders if only_left or change.lost_files else 0
        more[1] += change.folders if only_right or change.gained_files else 0
        is_told = only_left or only_right or change.lost_files or change.gained_files
        unsure += 0 if is_told else change.folders
        rows.append(
            {
                "folder": one.address,
                "left": level_word(change.before),
                "right": level_word(change.after),
                "only_left": spell_rights(only_left),
                "only_right": spell_rights(only_right),
                "with_files": _file_words(change, found.left.label, found.right.label),
                "folders": change.folders,
                "by": one.by,
            }
        )
    headline = f"{left} has more in {count_of(more[0], 'folder')}, {right} in {more[1]:,} (count of {when})."
    if unsure:
        headline = headline.replace(" (count of", f"; of {unsure:,} it is not known (count of")
    notes = []
    for name, groups in ((left, found.only_left), (right, found.only_right)):
        if groups:
            notes.append(f"Only {name} is in: {', '.join(groups)}.")
    if rows:
        notes.append(Aside("A row also applies to everything below it that is the same."))
    folders = f"all {count_of(found.folders, 'folder')} of {', '.join(found.systems) or 'no system'}"
    said = assured(
        "compare",
        not rows and bool(found.systems),
        headline.rstrip("."),
        left=left,
        right=right,
        folders=folders,
        when=when,
    )
    empty = "nothing differs" if found.systems else "neither has an account anywhere"
    return Report("compare", f"{said.text}.", columns, rows, notes, empty, is_assured=said.is_assured)


def _file_words(change: AccessChange, left: str, right: str) -> str:
    """Say of how many files only one of the two may do what."""
    words = [(left, change.lost_files), (right, change.gained_files)]
    return "; ".join(f"only {name}: {', '.join(sums_of_files(files))}" for name, files in words if files)


def like_report(found: Beside, groups: Mapping[str, Sequence[str]], apart: Sequence[str], when: str) -> Report:
    """Show what somebody new in the groups of a person would lack of what that person has."""
    report = compare_report(found, when)
    report.name = "suppose"
    lacking = sum(one.change.folders for one in found.differences if one.change.loses)
    less = f", and in {count_of(lacking, 'folder')} less" if lacking else ""
    kept = f"all that {found.left.name} has by groups{less}"
    report.headline = f"Suppose {found.right.name}, in the same groups: {kept} (count of {when})."
    notes = [f"{system}: {', '.join(names)}." for system, names in groups.items() if names]
    report.notes = ["To be in:", *(f"  {note}" for note in notes)] if notes else ["They are in no group."]
    report.notes += [f"{system} has team folders: who is in its groups gets them there." for system in apart]
    report.notes.append(
        "Left out is what they have by name, as an owner or as an administrator. Nothing was changed."
    )
    said = assured("like", not found.differences, "")
    report.empty, report.rows = said.text, said.or_rows(report.rows)
    return report


class Amounts(Protocol):
    """What one person can do."""

    person: str
    files: dict[Right, int]
    sizes: dict[Right, int]
    sensitive: int
    is_known: bool
    is_administrator: bool
    through: dict[str, int]


_WORDS = {Right.READ: "read", Right.CHANGE: "change", Right.DELETE: "delete"}


def most_report(found: Sequence[Amounts], right: Right, when: str, first: int) -> Report:
    """Show who can do the most, by the bytes that one right gives them."""
    columns = [
        Column("person", "PERSON", wraps=True),
        *(
            Column(f"{word}_bytes", f"CAN {word.upper()}" if each is right else word.upper(), number=True)
            for each, word in _WORDS.items()
        ),
        Column("files", "FILES", number=True),
        Column("sensitive", "SENSITIVE", number=True),
        Column("through", "MOST OF IT BY", wraps=True),
    ]
    rows: list[Row] = []
    for one in found:
        by = "; ".join(f"{name} ({show_size(size)})" for name, size in list(one.through.items())[:2])
        if one.is_administrator:
            by = "an administrator: everything" + (f"; {by}" if by else "")
        rows.append(
            {
                "person": one.person,
                **{f"{word}_bytes": Size(one.sizes[each]) for each, word in _WORDS.items()},
                "files": one.files[right],
                "sensitive": one.sensitive,
                "through": by if one.is_known else f"{by}; more is not known".lstrip("; "),
            }
        )
    word = _WORDS[right]
    top = found[0] if found and found[0].sizes[right] else None
    headline = f"Nobody can {word} anything (count of {when})."
    if top is not None:
        headline = (
            f"{top.person} can {word} the most: {show_size(top.sizes[right])} in {count_of(top.files[right], 'file')}"
        )
        headline += f" (count of {when})."
    notes = [f"FILES are those that they can {word}; SENSITIVE folders are those that the plan calls so, or closes."]
    if len(rows) > first:
        notes.append(Aside(f"And {len(rows) - first} more people (--top {len(rows)})."))
    return Report("most", headline, columns, rows, notes, "nobody has an account", rows[:first])
