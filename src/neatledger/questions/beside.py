"""Two offices beside each other: who gained and lost what, on which folders and with which files, system by system.

They may be a count and what is supposed of it, two counts, or what was to be and what was found. Whatever is said of
a change, or that there is none, is said from here.
"""

from __future__ import annotations

from collections.abc import Collection, Sequence
from dataclasses import dataclass

import numpy as np

from neatledger.core.access.comparing import AccessChange, compare
from neatledger.core.access.file_changes import NamedFiles
from neatledger.core.access.row_pairs import RowPairs, Unseen, mark_pairs_below, rows_of_one_count, rows_of_two_counts
from neatledger.core.people.principals import Principal
from neatledger.core.tree.address import Address
from neatledger.ledger.reader import SurveyReader
from neatledger.questions.beside_files import changes_of_shared_files
from neatledger.questions.office import Office
from neatledger.questions.systems import Systems

__all__ = ["SystemChange", "changes_between", "lies_over", "named_files", "system_changes"]


Side = tuple[SurveyReader, Sequence[Principal]]


@dataclass(frozen=True, slots=True)
class SystemChange:
    """What changes for one person on one system from a folder on down."""

    address: Address
    change: AccessChange


def changes_between(before: Office, after: Office) -> list[SystemChange]:
    """Return who gains and loses what between two offices, on the systems that both have.

    Of a count and what steps make of it only what these touch is looked at: everything else is the same.
    """
    found = []
    both = [name for name in after.readers if name in before.readers]
    changed = [name for name in both if after.readers[name] is not before.readers[name]]
    # What a share lets through counts in the team folders over it.
    over = [name for name in both if name not in changed and lies_over(after, name, changed)]
    for name in [*changed, *over]:
        found += system_changes(name, before.systems, after.systems, is_whole=name in over)
    return found


def lies_over(office: Office, name: str, others: Collection[str]) -> bool:
    """Tell whether team folders of a service lie over shares of other systems."""
    service = office.systems.service(name)
    return service is not None and any(team.over and team.over.system in others for team in service.shared.teams)


def system_changes(system: str, before: Systems, after: Systems, *, is_whole: bool = False) -> list[SystemChange]:
    """Return who gains and loses what on one system that both sides have, folders in reading order.

    Where steps made one side of the other, only what they touch is looked at, unless all is wanted (`is_whole`).
    """
    found = _folder_changes(system, before, after, is_whole=is_whole)
    files = changes_of_shared_files(system, before, after, [one.change for one in found])
    return [*found, *(SystemChange(Address(system, one.path), one) for one in files)]


def _folder_changes(system: str, before: Systems, after: Systems, *, is_whole: bool) -> list[SystemChange]:
    old, new = before.readers[system], after.readers[system]
    had, has = before.holders[system], after.holders[system]
    people = list(dict.fromkeys(one.person for one in (*had, *has)))
    if new.stands_on is not old:
        return _compared(system, before, after, people, None)
    if is_whole or old.shared != new.shared or old.facts.get("shares") != new.facts.get("shares"):
        return _compared(system, before, after, people, None)
    moved = _people_whose_account_changed(had, has)
    service = before.service(system)
    # Who gives less has given less: what was handed on by them changes with them.
    moved |= set() if service is None else service.reached_from(moved)
    found = _compared(system, before, after, [one for one in people if one in moved], None)
    if new.touched:
        tops = sorted(new.touched)
        found += _compared(system, before, after, [one for one in people if one not in moved], tops)
    return found


def _people_whose_account_changed(had: Sequence[Principal], has: Sequence[Principal]) -> set[str]:
    """Return who has another account, is in other groups, or may come in where they could not, or the other way."""
    before_by_login, after_by_login = (
        {(one.person, one.account.login): (one.holder, one.may_come_in, one.is_doubtful) for one in side}
        for side in (had, has)
    )
    logins = before_by_login.keys() | after_by_login.keys()
    return {login[0] for login in logins if before_by_login.get(login) != after_by_login.get(login)}


def _compared(
    system: str, before: Systems, after: Systems, people: Sequence[str], tops: list[bytes] | None
) -> list[SystemChange]:
    """Compare some people on all folders, or on those at and below some."""
    old, new = before.readers[system], after.readers[system]
    wanted = set(people)
    if not people or not new.table("folders").rows:
        return []
    sides = (old, before.holders[system]), (new, after.holders[system])
    untold = _untold_beside(*sides), _untold_beside(*reversed(sides))
    tables = [
        side.everyone(system, [one for one in side.holders[system] if one.person in wanted], is_narrow=True)
        for side in (before, after)
    ]
    pairs = _pairs(old, new)
    places = None if tops is None else mark_pairs_below(pairs, tables[1].matrix.order, tops)
    unseen = None if pairs.is_one_count else _unseen(pairs, old, new)
    changes = compare(
        tables[0], tables[1], people, pairs, places, named=named_files(old, new), untold=untold, unseen=unseen
    )
    return [SystemChange(Address(system, one.path), one) for one in changes]


def _unseen(pairs: RowPairs, old: SurveyReader, new: SurveyReader) -> Unseen:
    then, now = old.table("folders")["state"], new.table("folders")["state"]
    missed_then, missed_now = ({one.path for one in reader.not_seen if not one.source} for reader in (old, new))
    return pairs.unseen((then, now), (missed_then, missed_now))


def _untold_beside(side: Side, other: Side) -> set[str]:
    """Return whose accounts or groups are on the other side alone, where of this one less of the source was read.

    A line that could not be read, an answer that a directory did not give: that somebody is gone is not known then.
    """
    (reader, principals), (other_reader, others) = side, other
    if not reader.unread - other_reader.unread:
        return set()
    logins = {one.account.login for one in principals}
    gone = {one.ident for one in other_reader.groups} - {one.ident for one in reader.groups}
    return {one.person for one in others if one.account.login not in logins or one.holder.groups & gone}


def _pairs(old: SurveyReader, new: SurveyReader) -> RowPairs:
    """Pair the folders of two readers of a system: by what steps made of them, else by their paths."""
    folders = old.table("folders"), new.table("folders")
    if old is not new and new.stands_on is not old:
        return rows_of_two_counts(*folders)
    return rows_of_one_count(*folders, None if new.old_rows is None else np.array(new.old_rows))


def named_files(old: SurveyReader | None, new: SurveyReader | None) -> NamedFiles | None:
    """Return what two counts know of the files of a system by name; None where one of them lacks the system."""
    return None if old is None or new is None else NamedFiles(old.table("odd"), new.table("odd"))
