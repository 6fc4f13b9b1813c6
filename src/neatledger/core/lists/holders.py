"""Who a list is put to: one holder at a time, or a whole crowd as bit sets.

A holder is one account as a system knows it: its own identifier and those of every group it is in,
nested groups included. Identifiers are the system's own, as text: numbers on a POSIX system, security
identifiers on an NT one.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from functools import cached_property
from typing import Any

__all__ = ["Crowd", "Holder"]


@dataclass(frozen=True, slots=True)
class Holder:
    """One account: `login`, its identifier `user`, the identifiers of its `groups`, and its `privileges`.

    Privileges are what a system lets an account do whatever its lists say (see `privileges.py`). `maybe` are the
    groups in which the account is or is not: nobody told all of their members. `perhaps` are the privileges that only
    those groups would give.
    """

    login: str
    user: str
    groups: frozenset[str]
    privileges: frozenset[str] = frozenset()
    maybe: frozenset[str] = frozenset()
    perhaps: frozenset[str] = frozenset()

    @property
    def ordinary(self) -> Holder:
        """The same holder without any privilege."""
        return replace(self, privileges=frozenset(), perhaps=frozenset())

    @property
    def idents(self) -> frozenset[str]:
        """Its own identifier and those of its groups."""
        return self.groups | {self.user}

    def as_in(self, group: str) -> Holder:
        """Return the same holder as one who is in a group."""
        return replace(self, groups=self.groups | {group}, maybe=frozenset())


class Crowd:
    """Many holders at once; holder number i is bit i (value ``1 << i``) of every set.

    Python's own integers are the bit sets: a list is evaluated for everyone with a few operations,
    however many they are.
    """

    def __init__(self, holders: Sequence[Holder]) -> None:
        self.holders = tuple(holders)
        self.all = (1 << len(self.holders)) - 1
        # What list models remember of their entries for this crowd.
        self.memo: dict[Any, dict[Any, int]] = {}
        self._as_in: dict[str, Crowd] = {}
        self.by_user: dict[str, int] = {}
        self.by_group: dict[str, int] = {}
        for number, holder in enumerate(self.holders):
            bit = 1 << number
            self.by_user[holder.user] = self.by_user.get(holder.user, 0) | bit
            for group in holder.groups:
                self.by_group[group] = self.by_group.get(group, 0) | bit

    @cached_property
    def maybe(self) -> dict[str, int]:
        """Group → the bit set of those of whom it is not told whether they are in it."""
        found: dict[str, int] = {}
        for number, holder in enumerate(self.holders):
            for group in holder.maybe:
                found[group] = found.get(group, 0) | 1 << number
        return found

    def as_in(self, group: str) -> Crowd:
        """Return the same crowd with all those in a group who may be in it."""
        if group not in self._as_in:
            self._as_in[group] = Crowd([one.as_in(group) if group in one.maybe else one for one in self.holders])
        return self._as_in[group]
