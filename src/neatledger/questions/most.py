"""Who can do the most: what an account that was stolen could change, delete or read, and by which group it could."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field

import numpy as np

from neatledger.core.access.amounts import RIGHTS, amounts_of
from neatledger.core.lists.rights import Right
from neatledger.core.people.principals import only_in
from neatledger.core.tree.order import TreeOrder
from neatledger.questions.office import Office

__all__ = ["Share", "ask"]


@dataclass
class Share:
    """What one person can do: files and bytes by right, sensitive folders that they read, and their groups' part.

    `through` is group → bytes that being in it alone would give for the right that was asked about, the most first.
    """

    person: str
    files: dict[Right, int] = field(default_factory=lambda: dict.fromkeys(RIGHTS, 0))
    sizes: dict[Right, int] = field(default_factory=lambda: dict.fromkeys(RIGHTS, 0))
    sensitive: int = 0
    is_known: bool = True
    is_administrator: bool = False
    through: dict[str, int] = field(default_factory=dict)


def ask(office: Office, right: Right, explain: int = 10) -> list[Share]:
    """Return everybody with what they can do, the most bytes by a right first; groups are told of the first few."""
    found: dict[str, Share] = {}
    for system in office.readers:
        principals = office.systems.holders[system]
        people = list(dict.fromkeys(one.person for one in principals))
        if not principals:
            continue
        everyone = office.systems.everyone(system, principals, is_narrow=True)
        amounts = amounts_of(everyone, people, _sensitive(office, system))
        admins = {
            principals[number].person for number in range(len(principals)) if everyone.matrix.admins >> number & 1
        }
        for place, person in enumerate(people):
            share = found.setdefault(person, Share(person))
            for each in RIGHTS:
                share.files[each] += int(amounts.files[each][place])
                share.sizes[each] += int(amounts.sizes[each][place])
            share.sensitive += int(amounts.marked[place])
            share.is_known &= not amounts.unsure[place]
            share.is_administrator |= person in admins
    ranked = sorted(found.values(), key=lambda one: (-one.sizes[right], -one.files[right], one.person))
    _explain(office, ranked[:explain], right)
    return ranked


def _sensitive(office: Office, system: str) -> np.ndarray:
    """Mark the folders that the plan calls sensitive, or closes: those with all below them."""
    tops = [one for one in office.plan.guarded if one.system == system]
    return TreeOrder(office.readers[system].table("folders")).mark_below(top.parts for top in tops)


def _explain(office: Office, shares: Sequence[Share], right: Right) -> None:
    """Say of some people what each of their groups would give by itself, on systems of lists."""
    for system, reader in office.readers.items():
        if office.systems.service(system) is not None:
            continue
        principals = [
            one for one in office.systems.holders[system] if one.person in {share.person for share in shares}
        ]
        names = {group.ident: group.name for group in reader.groups}
        groups = sorted({ident for one in principals for ident in one.holder.groups if ident in names})
        if not groups:
            continue
        alone = [only_in(f"in {ident}", system, [ident], login=f"in {ident}") for ident in groups]
        everyone = office.systems.everyone(system, alone, is_narrow=True)
        nothing = np.zeros(reader.table("folders").rows, dtype=bool)
        sizes = amounts_of(everyone, [one.person for one in alone], nothing).sizes[right]
        for share in shares:
            mine = {ident for one in principals if one.person == share.person for ident in one.holder.groups}
            for ident, size in zip(groups, sizes.tolist(), strict=True):
                if ident in mine and size:
                    key = f"{system}:{names[ident]}"
                    share.through[key] = share.through.get(key, 0) + int(size)
    for share in shares:
        share.through = dict(sorted(share.through.items(), key=lambda one: -one[1]))
