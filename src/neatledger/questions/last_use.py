"""When people last used what they may: one folder, or many folders of one person; as far as the records reach."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Mapping, Sequence
from datetime import date, datetime
from importlib.util import find_spec
from typing import TYPE_CHECKING

from neatledger.core.people.principals import numbers_of_logins
from neatledger.core.trail.records import Did
from neatledger.core.tree.address import Address
from neatledger.questions.covered import coverage_of
from neatledger.questions.earlier_names import names_of
from neatledger.questions.office import Office

if TYPE_CHECKING:
    from neatledger.questions.access import AccessTable

__all__ = ["USES", "days_of_folder", "days_of_tables", "seen_words"]

USES = (Did.OPEN, Did.CHANGE, Did.MAKE, Did.RENAME, Did.DELETE, Did.RIGHTS, Did.SHARE)
"""What is a use of a right on a folder."""


def seen_words(office: Office, systems: Iterable[str]) -> list[str]:
    """Say from when on it is known who used what; of systems without any record that nothing is."""
    wanted = [system for system in systems if office.ledger.has_trail(system)]
    if not wanted:
        return []
    if find_spec("numpy") is None:
        return ["When each last used it is in the ledger; to look it up needs numpy (neatledger[gather])."]
    covered = office.ledger.trail.covered()
    found = []
    for system in wanted:
        if system in covered:
            coverage = coverage_of(office, system)
            since = covered[system].first if coverage is None else coverage.since
            known = f"{system}: who used what is known since {since.astimezone():%Y-%m-%d}"
            if coverage is not None and Did.OPEN not in coverage.dids:
                found.append(f"{known}, but not what was only opened: its log tells of no opening.")
            else:
                found.append(f"{known}; where LAST USED is empty, it was not since then.")
    return found


def days_of_folder(office: Office, address: Address) -> Mapping[str, date]:
    """Return the person → the day on which they last used a folder or file, or anything below it.

    Where it was moved, what it was called before is looked at too.
    """
    if not office.ledger.has_trail(address.system) or find_spec("numpy") is None:
        return {}
    trail = office.ledger.trail
    newest = trail.select(below=names_of(office, address), dids=USES, is_done=True).last_by_login()
    persons = _persons(office, address.system)
    days: dict[str, date] = {}
    for login, moment in newest.items():
        person, day = persons.get(login.casefold()), _day(moment)
        if person is not None:
            days[person] = max(day, days.get(person, day))
    return days


def _persons(office: Office, system: str) -> Mapping[str, str]:
    """Return login and identifier, in small letters → the person; a login goes before."""
    principals = office.principals[system]
    return {login: principals[number].person for login, number in numbers_of_logins(principals).items()}


def _day(moment: int) -> date:
    return datetime.fromtimestamp(moment).date()


def days_of_tables(
    office: Office, tables: Iterable[AccessTable], people: Collection[str], folders: Sequence[Address]
) -> Mapping[tuple[str, Address], date]:
    """Return the person and folder → the day on which they last used it, or anything below it."""
    found: dict[tuple[str, Address], date] = {}
    for one in tables if office.ledger.has_trail() else ():
        mine = [address for address in folders if address.system == one.system]
        found |= _days_of_table(office, one, people, mine)
    return found


def _days_of_table(
    office: Office, table: AccessTable, people: Collection[str], folders: Sequence[Address]
) -> Mapping[tuple[str, Address], date]:
    matrix = table.everyone.matrix
    import numpy as np

    from neatledger.questions.uses import load_uses

    uses = load_uses(office, matrix, table.system)
    numbers: dict[str, list[int]] = {}
    for number, principal in enumerate(matrix.principals):
        if principal.person in people:
            numbers.setdefault(principal.person, []).append(number)
    order = matrix.order
    places = order.preorder[uses.folder] if len(uses) else np.zeros(0, np.int64)
    rows = order.find_many([one.parts for one in folders])
    found: dict[tuple[str, Address], date] = {}
    for person, mine in numbers.items():
        is_mine = np.isin(uses.account, mine)
        at = places[is_mine]
        by_place = np.argsort(at, kind="stable")
        at, last = at[by_place], uses.last[is_mine][by_place]
        for address in folders if len(at) else ():
            row = rows[address.parts]
            if row is None:
                continue
            top = int(order.preorder[row])
            low, high = np.searchsorted(at, [top, top + int(order.size[row])]).tolist()
            if high > low:
                found[person, address] = _day(int(last[low:high].max()))
    return found
