"""The office as it would be after some steps: every question can be put to it as to the one that was found."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Sequence
from dataclasses import dataclass

import numpy as np

from neatledger.core.access.comparing import AccessChange, compare
from neatledger.core.people.principals import Principal
from neatledger.core.steps.contract import Step
from neatledger.core.tree.address import Address, parts_of
from neatledger.core.tree.table import folder_paths
from neatledger.ledger.imagined import ImaginedReader, imagine
from neatledger.questions.office import Office

__all__ = ["SystemChange", "changes_between", "imagined_office", "lies_over"]


def imagined_office(office: Office, steps: Iterable[Step]) -> Office:
    """Return an office as it would be; raises `StepError` where a step does not fit."""
    then = Office(office.folder, office.today, office.as_of)
    known = {"plan": office.plan, "ledger": office.ledger, "count": office.count, "_looked_back": office._looked_back}
    # What is read by need in an office is told here: the same plan and ledger, what was before, and other readers.
    then.__dict__.update(known, readers=imagine(office.readers, steps))
    return then


@dataclass(frozen=True, slots=True)
class SystemChange:
    """What changes for one person on one system from a folder on down."""

    address: Address
    change: AccessChange


def changes_between(office: Office, then: Office) -> list[SystemChange]:
    """Return who gains and loses what between an office and the same with some steps made, system by system."""
    found = []
    changed = [name for name, reader in then.readers.items() if reader is not office.readers[name]]
    # What a share lets through counts in the team folders over it.
    over = [name for name in then.readers if name not in changed and lies_over(then, name, changed)]
    for name in [*changed, *over]:
        found += _of_system(office, then, name, is_whole=name in over)
    return found


def lies_over(office: Office, name: str, others: Collection[str]) -> bool:
    """Tell whether team folders of a service lie over shares of other systems."""
    service = office.systems.service(name)
    return service is not None and any(team.over and team.over.system in others for team in service.shared.teams)


def _of_system(office: Office, then: Office, name: str, *, is_whole: bool) -> list[SystemChange]:
    old, new = office.readers[name], then.readers[name]
    before, after = office.systems.holders[name], then.systems.holders[name]
    people = list(dict.fromkeys(one.person for one in (*before, *after)))
    is_whole |= old.shared != new.shared or old.facts.get("shares") != new.facts.get("shares")
    known = {(one.person, one.account.login): one for one in before}
    now = {(one.person, one.account.login): one for one in after}
    moved = {key[0] for key in known.keys() | now.keys() if not _is_same(known.get(key), now.get(key))}
    tops = sorted(new.touched) if isinstance(new, ImaginedReader) else []
    found: list[SystemChange] = []
    if is_whole or moved:
        some = people if is_whole else [one for one in people if one in moved]
        found += _compare(office, then, name, some, None)
    if tops and not is_whole:
        found += _compare(office, then, name, [one for one in people if one not in moved], tops)
    return found


def _is_same(one: Principal | None, other: Principal | None) -> bool:
    if one is None or other is None:
        return False
    rights = [(each.holder, each.may_come_in, each.is_doubtful) for each in (one, other)]
    return rights[0] == rights[1]


def _compare(
    office: Office, then: Office, name: str, people: Sequence[str], tops: Sequence[bytes] | None
) -> list[SystemChange]:
    wanted = set(people)
    before, after = (
        each.systems.everyone(
            name, [one for one in each.systems.holders[name] if one.person in wanted], is_narrow=True
        )
        for each in (office, then)
    )
    folders = after.matrix.folders
    if not people or not folders.rows:
        return []
    if tops is None:
        rows = after.matrix.order.order
    else:
        rows = np.flatnonzero(after.matrix.order.mark_below(map(parts_of, tops)))
    path_of = folder_paths(folders)
    reader = then.readers[name]
    olds = reader.old_rows if isinstance(reader, ImaginedReader) else None
    changes = compare(before, after, people, rows, None if olds is None else np.array(olds))
    return [SystemChange(Address(name, path_of(one.row)), one) for one in changes]
