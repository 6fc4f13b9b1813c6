"""What changed for somebody, in words: levels before and after, and with how many files."""

from __future__ import annotations

from neatledger.core.access.comparing import AccessChange
from neatledger.core.access.moved_files import FilesChanged
from neatledger.core.access.people_flags import ABSENT_FLAG, UNKNOWN_FLAG, known_rights, level_of_flags
from neatledger.core.lists.rights import Level, level_of, spell_rights
from neatledger.reports.report import Cell, Size

__all__ = ["NOT_THERE", "change_cells", "file_words", "level_word", "sums_of_files", "what_changes"]

NOT_THERE = "not there"


def level_word(flags: int) -> str:
    """Return the word for flags: a level, that more is not known, or that there is no such folder."""
    if flags & ABSENT_FLAG:
        return NOT_THERE
    if flags & UNKNOWN_FLAG:
        known = known_rights(flags)
        return f"{level_of(known).value} or more" if known else Level.UNKNOWN.value
    return level_of_flags(flags).value


def what_changes(change: AccessChange) -> str:
    """Say in a word or three what a change is."""
    if change.gains and change.loses:
        return "gains and loses"
    if change.gains or change.loses:
        return "gains" if change.gains else "loses"
    is_less_known = not change.is_known or change.untold_files > 0
    return "not known" if is_less_known else "known now"


def file_words(change: AccessChange) -> str:
    """Say of how many files somebody may do more or less; nothing where they may do the same with all."""
    parts = [f"{words} more" for words in sums_of_files(change.gained_files)]
    parts += [f"{words} fewer" for words in sums_of_files(change.lost_files)]
    if change.untold_files > 0:
        parts.append(f"{change.untold_files:,} not known")
    return "; ".join(parts)


def sums_of_files(files: FilesChanged) -> list[str]:
    """Return each number of files once, with all that may be done with so many: ``reads and changes 2``."""
    verbs: dict[int, list[str]] = {}
    for verb, number in (("reads", files.read), ("changes", files.change), ("removes", files.delete)):
        if number:
            verbs.setdefault(number, []).append(verb)
    return [f"{_listed(some)} {number:,}" for number, some in verbs.items()]


def _listed(verbs: list[str]) -> str:
    return verbs[0] if len(verbs) == 1 else f"{', '.join(verbs[:-1])} and {verbs[-1]}"


def change_cells(change: AccessChange) -> dict[str, Cell]:
    """Return the cells that say what changes: levels, folders, files and bytes."""
    return {
        "before": level_word(change.before),
        "after": level_word(change.after),
        "folders": change.folders,
        "files": change.gained_files.read or change.lost_files.read,
        "with_files": file_words(change),
        "size": Size(change.size),
        "gained": spell_rights(change.gained),
        "lost": spell_rights(change.lost),
    }
