"""The entries of a system's lists beside their use: who is named from which folder on down, and who last used it.

An *entry* is one holder, named without a break from a folder on down: it begins where the folder above does not name
them. It is used by whoever it gives something to, where it gives it; whether another entry would give the same is
not asked, since a right that was used is not unused.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from neatledger.core.access.matrix import Matrix
from neatledger.core.lists.contract import ListView
from neatledger.core.lists.rights import Right
from neatledger.core.trail.uses import Use, Uses

__all__ = ["Entry", "Named", "Sort", "find_entries", "find_names", "used_by_member"]

Ints = NDArray[np.int64]
Sort = str
"""``user``, ``group`` or ``everyone``."""


@dataclass(frozen=True, slots=True)
class Named:
    """A holder that lists name: `rights` by the number of each list; `members` are principals, by number."""

    sort: Sort
    ident: str
    rights: Mapping[int, Right]
    members: Ints


@dataclass(frozen=True, slots=True)
class Entry:
    """A holder named from a folder on down, with the last uses of it.

    `row` is the folder, `folders` how many there are with those below, `rights` what is given on it. `last` is by use
    the last moment (seconds since 1970, UTC), and `last_by` the principal of the last of all, −1 where there is none.
    """

    named: Named
    row: int
    folders: int
    rights: Right
    last: Mapping[Use, int]
    last_by: int

    @property
    def last_use(self) -> int | None:
        """The last moment at which anything was used; None: never."""
        return max(self.last.values(), default=None)


def find_names(matrix: Matrix) -> list[Named]:
    """Return the holders that the lists of folders name and that are somebody's, with everyone last.

    Whom administrators' roles open everything to is nobody's member: they need no entry.
    """
    views = {number: matrix.view(number, is_folder=True) for number in np.unique(matrix.folders["list"]).tolist()}
    found: dict[tuple[Sort, str], dict[int, Right]] = {}
    crowd = matrix.crowd
    for number, view in views.items():
        for key, rights in _holders(view, crowd.by_group):
            if rights:
                found.setdefault(key, {})[number] = rights
    names = []
    for (sort, ident), by_list in found.items():
        some = crowd.by_user if sort == "user" else crowd.by_group
        bits = (crowd.all if sort == "everyone" else some.get(ident, 0)) & ~matrix.admins
        members = np.array([n for n in range(len(crowd.holders)) if bits >> n & 1], dtype=np.int64)
        names.append(Named(sort, ident, by_list, members))
    return sorted(names, key=lambda one: (("user", "group", "everyone").index(one.sort), one.ident))


def _holders(view: ListView, groups: Mapping[str, int]) -> Iterator[tuple[tuple[Sort, str], Right]]:
    yield from ((("user", ident), rights) for ident, rights in view.users.items())
    yield from ((("group", ident), rights) for ident, rights in view.groups.items())
    for ident, rights in view.either.items():
        yield ("group" if ident in groups else "user", ident), rights
    yield ("everyone", ""), view.everyone


def find_entries(matrix: Matrix, names: list[Named], uses: Uses) -> Iterator[Entry]:
    """Yield the entries of some holders, each with its last uses; accounts and folders of `uses` are the matrix's."""
    for named in names:
        is_named = _is_named(matrix, named)
        begins = is_named.copy()
        begins[1:] &= ~is_named[matrix.order.parent[1:]]
        tops = np.flatnonzero(begins)
        if not len(tops):
            continue
        marks = np.where(begins, np.arange(len(begins)) + 1, 0)
        matrix.order.spread_down(marks)
        sizes = np.bincount(marks[is_named], minlength=len(begins) + 1)
        last = _last_uses(named, is_named, marks, uses)
        lists = matrix.folders["list"][tops].tolist()
        for row, number in zip(tops.tolist(), lists, strict=True):
            by_use, by = last.get(row, ({}, -1))
            yield Entry(named, row, int(sizes[row + 1]), named.rights[number], by_use, by)


def _is_named(matrix: Matrix, named: Named) -> NDArray[np.bool_]:
    lists = matrix.folders["list"]
    is_naming = np.zeros(int(lists.max(initial=0)) + 1, dtype=bool)
    is_naming[list(named.rights)] = True
    found: NDArray[np.bool_] = is_naming[lists]
    return found


def _last_uses(
    named: Named, is_named: NDArray[np.bool_], marks: Ints, uses: Uses
) -> dict[int, tuple[dict[Use, int], int]]:
    """Return the folder where an entry begins → its last uses, and by whom the last of all was."""
    mine = uses.of_accounts(named.members.tolist())
    mine = mine.of(is_named[mine.folder])
    found: dict[int, tuple[dict[Use, int], int]] = {}
    tops = marks[mine.folder] - 1
    # Of each entry and use the last row only: they come in the order of time behind each other.
    order = np.lexsort((mine.last, mine.use, tops))
    keys = np.stack([tops[order], mine.use[order]])
    is_end = np.append((keys[:, 1:] != keys[:, :-1]).any(axis=0), True) if len(order) else np.zeros(0, bool)
    at = order[is_end]
    columns = (tops[at], mine.use[at], mine.last[at], mine.account[at])
    for row, use, last, account in zip(*(one.tolist() for one in columns), strict=True):
        by_use, by = found.get(row, ({}, -1))
        newest = max(by_use.values(), default=-1)
        by_use[Use(use)] = last
        found[row] = by_use, account if last >= newest else by
    return found


def used_by_member(matrix: Matrix, named: Named, outer: Iterable[Named], uses: Uses) -> dict[int, int]:
    """Return the member → the last moment at which they used anything that a group or one of its `outer` gives.

    Whoever is in a group is in those too in which it is itself.
    """
    is_named = _is_named(matrix, named)
    for one in outer:
        is_named = is_named | _is_named(matrix, one)
    mine = uses.of_accounts(named.members.tolist())
    mine = mine.of(is_named[mine.folder])
    newest = np.full(len(matrix.principals), -1, np.int64)
    np.maximum.at(newest, mine.account, mine.last)
    return {account: int(newest[account]) for account in np.flatnonzero(newest >= 0).tolist()}
