"""What access was gained and lost between two counts."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import date

import numpy as np

from neatledger.core.access.comparing import AccessChange
from neatledger.core.access.differences import COMPARED
from neatledger.core.access.moved_files import FilesChanged
from neatledger.core.lists.rights import Right
from neatledger.core.tree.address import Address
from neatledger.core.tree.table import folder_paths
from neatledger.ledger.store import CountInfo
from neatledger.questions.beside import SystemChange, system_changes
from neatledger.questions.history import Between
from neatledger.questions.office import Office

__all__ = ["AccessChanges", "Explained", "ask", "explain"]


@dataclass(frozen=True, slots=True)
class AccessChanges:
    """Who gained and lost what where between two counts, all ways united, on systems that both have and saw anew.

    `left_out` says of the others why they are not compared, and where not all was seen.
    """

    older: CountInfo
    newer: CountInfo
    changes: list[SystemChange]
    left_out: list[str]


def ask(office: Office, since: date | None = None) -> AccessChanges:
    """Compare the count with an older one: of `since`, or the one before; raises `NoCountError`."""
    newer = office.count
    found = office.ledger.find_count(since) if since else office.count_before()
    older = office.ledger.carried(found, office.plan.systems)
    then = {one.system: one for one in older.surveys}
    left_out, compared = [], []
    for one in newer.surveys:
        before = then.get(one.system)
        if before is None:
            left_out.append(f"{one.system} was first counted on {one.when}: there is nothing to compare it with.")
        elif before.id == one.id:
            left_out.append(f"{one.system} has no count after {one.when}: what changed there since is unknown.")
        else:
            compared.append(one.system)
            if before.when != older.when:
                left_out.append(
                    f"{one.system} is compared with {before.when}, the last time before that it was counted."
                )
    known = {one.system for one in newer.surveys}
    left_out += [f"{name} is in the older count alone." for name in then if name not in known]
    for one in (*older.surveys, *newer.surveys):
        if one.system in compared and one.not_seen:
            doubt = "differences may come from what was not read"
            left_out.append(f"{one.system}: {one.not_seen_words} could not be seen on {one.when}: {doubt}.")
    sides = [office.systems_of(office.readers_of(count), count.day) for count in (older, newer)]
    changes = [change for system in compared for change in system_changes(system, *sides)]
    # Two counts of one moment say the same of what was not seen.
    return AccessChanges(older, newer, changes, list(dict.fromkeys(left_out)))


@dataclass(frozen=True, slots=True)
class Explained:
    """Why somebody's access changed, as far as the counts tell, and what the plan of today says to it."""

    causes: tuple[str, ...]
    planned: str


def explain(office: Office, found: AccessChanges, change: SystemChange, between: Between) -> Explained:
    """Return why a person gained or lost what they did on a folder or with its files."""
    address, person = change.address, change.change.person
    causes = between.causes(person, address)
    moved = None
    if "the folder came" in causes:
        moved = _moved_from(office, found, address)
    if moved is not None:
        causes = tuple(one.replace("the folder came", f"it was moved here from {moved}") for one in causes)
    return Explained(causes, _beside_plan(office, address, change.change))


def _beside_plan(office: Office, address: Address, change: AccessChange) -> str:
    """Say what the plan of today says to a change."""
    if change.person not in office.plan.people:
        return "the plan has no such person"
    planned, _ = office.plan.rights_at(address, change.person)
    gained = change.gained & COMPARED | _rights_with_files(change.gained_files)
    lost = change.lost & COMPARED | _rights_with_files(change.lost_files)
    said = ["more than planned"] if gained & ~planned else []
    said += ["less than planned"] if lost & planned else []
    if not said and not (change.was_known and change.is_known):
        return "not known"
    return ", ".join(said) or "as planned"


def _rights_with_files(files: FilesChanged) -> Right:
    """Return what some files may be used for now and could not, or the other way round."""
    rights = Right.READ if files.read else Right.NONE
    rights |= Right.CHANGE if files.change else Right.NONE
    return rights | (Right.DELETE if files.delete else Right.NONE)


def _moved_from(office: Office, found: AccessChanges, address: Address) -> Address | None:
    """Return where a folder was before, by its inode; None where that is not known, or it is there still."""
    readers = [office.readers_of(one)[address.system] for one in (found.older, found.newer)]
    chain, missing = readers[1].find_path(address.path)
    inodes = readers[0].table("folders")["inode"]
    inode = readers[1].table("folders")["inode"][chain[-1].row]
    if missing is not None or not inode:
        return None
    path_of = folder_paths(readers[0].table("folders"))
    places = [path_of(row) for row in np.flatnonzero(inodes == inode).tolist()]
    is_left = all(readers[1].find_row(path) is None for path in places)
    return Address(address.system, places[0]) if len(places) == 1 and is_left else None
