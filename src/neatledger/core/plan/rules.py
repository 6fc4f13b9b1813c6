"""Sharing rules: which guests, what an open link may give, and what stands beside them; the tightest wins.

Rules stand at four levels: the office, a system, a person (who makes a link or hands out), and a folder with all
below it. Some bound what is reached today (guests, domains, open links, download) and are gates; the others
speak of how things are made (life, password, size, kinds, passing on), and a new one ends nothing that is there.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass, fields
from enum import Enum, IntEnum
from operator import and_
from typing import Any, TypeVar

from neatledger.core.lists.rights import LEVEL_RIGHTS, Level, Right, with_view
from neatledger.core.plan.limits import UNLIMITED, Limit, Unlimited
from neatledger.core.tree.address import Address

__all__ = ["Guests", "PlacedRule", "RuleOn", "SharingRule", "tightest"]


class Guests(IntEnum):
    """Which guests may be reached, the tightest first."""

    NONE = 0
    LISTED = 1
    INVITED = 2

    @property
    def word(self) -> str:
        """The word in plans and listings."""
        return self.name.lower()


class RuleOn(Enum):
    """What a rule is put on."""

    OFFICE = "office"
    SYSTEM = "system"
    PERSON = "person"
    FOLDER = "folder"


_OPEN = {"nothing": Right.NONE, "read": with_view(LEVEL_RIGHTS[Level.READ])}
# Whoever holds an open link is nobody known: they never say who else gets in.
_WRITES = ~(Right.MANAGE | Right.SHARE)


T = TypeVar("T")


def _tighter(pick: Callable[[T, T], T], mine: T | None, theirs: T | None) -> T | None:
    """Return the tighter of two settings; the one that speaks where the other does not."""
    if mine is None or theirs is None:
        return theirs if mine is None else mine
    return pick(mine, theirs)


@dataclass(frozen=True, slots=True)
class SharingRule:
    """One set of rules; None says nothing.

    `open_links` is what an open link may give at most: nothing, read or write. Lives are days; `largest` is bytes,
    or no limit in so many words (the loosest there is). `pass_on` tells whether what was handed to
    someone may be handed on, and `chain` how many times at most.
    """

    guests: Guests | None = None
    domains: frozenset[str] | None = None
    open_links: str | None = None
    download: bool | None = None
    link_days: int | None = None
    folder_days: int | None = None
    password: bool | None = None
    largest: Limit | None = None
    barred: frozenset[str] = frozenset()
    pass_on: bool | None = None
    chain: int | None = None
    single_files: bool | None = None

    def tighter(self, other: SharingRule) -> SharingRule:
        """Return the rule that is as tight as the tighter of two, setting by setting."""
        # Of two permissions both must be given; of two demands one is enough.
        return SharingRule(
            guests=_tighter(min, self.guests, other.guests),
            domains=_tighter(and_, self.domains, other.domains),
            open_links=_tighter(_tighter_word, self.open_links, other.open_links),
            download=_tighter(min, self.download, other.download),
            link_days=_tighter(min, self.link_days, other.link_days),
            folder_days=_tighter(min, self.folder_days, other.folder_days),
            password=_tighter(max, self.password, other.password),
            largest=_lower(self.largest, other.largest),
            barred=self.barred | other.barred,
            pass_on=_tighter(min, self.pass_on, other.pass_on),
            chain=_tighter(min, self.chain, other.chain),
            single_files=_tighter(min, self.single_files, other.single_files),
        )

    @property
    def open_rights(self) -> Right:
        """What an open link may give at most."""
        return ~Right.NONE if self.open_links is None else _OPEN.get(self.open_links, _WRITES)

    def lets_guest(self, is_listed: bool, email: str) -> bool:
        """Tell whether a guest may be reached."""
        if self.guests is Guests.NONE or (self.guests is Guests.LISTED and not is_listed):
            return False
        # Domains know no case (RFC 4343).
        return self.domains is None or email.rpartition("@")[2].casefold() in self.domains

    def to_facts(self) -> dict[str, Any]:
        """Return what the ledger keeps: only what is said."""
        found = {each.name: getattr(self, each.name) for each in fields(self)}
        return {
            name: sorted(value)
            if isinstance(value, frozenset)
            else value.value
            if isinstance(value, Unlimited)
            else value
            for name, value in found.items()
            # No domain at all is a rule; no barred kind is none.
            if value is not None and (name != "barred" or value)
        }

    @classmethod
    def of_facts(cls, facts: Mapping[str, Any]) -> SharingRule:
        """Return what the ledger kept."""
        found = dict(facts)
        if found.get("largest") == UNLIMITED.value:
            found["largest"] = UNLIMITED
        if "guests" in found:
            found["guests"] = Guests(found["guests"])
        for name in ("domains", "barred"):
            if name in found:
                found[name] = frozenset(found[name])
        return cls(**found)


def _lower(mine: Limit | None, theirs: Limit | None) -> Limit | None:
    """Return the lower of two limits; an amount is lower than no limit, and that than nothing said."""
    amounts = [one for one in (mine, theirs) if isinstance(one, int)]
    return min(amounts) if amounts else theirs if mine is None else mine


def _tighter_word(mine: str, theirs: str) -> str:
    return min(mine, theirs, key=("nothing", "read", "write").index)


@dataclass(frozen=True, slots=True)
class PlacedRule:
    """A rule with what it is put on: `name` is a system, a person's login or id, or the path of a folder.

    `system` is the folder's, where the rule does not come from the system itself.
    """

    on: RuleOn
    name: str
    rule: SharingRule
    system: str = ""
    line: int = 0

    @property
    def path(self) -> bytes:
        """The path of its folder."""
        return self.name.encode("utf-8", "surrogateescape")

    def to_facts(self) -> dict[str, Any]:
        """Return what the ledger keeps."""
        return {"on": self.on.value, "name": self.name, "rule": self.rule.to_facts()}

    @classmethod
    def of_facts(cls, facts: Mapping[str, Any]) -> PlacedRule:
        """Return what the ledger kept."""
        return cls(RuleOn(facts["on"]), facts["name"], SharingRule.of_facts(facts["rule"]))

    def covers(self, system: str, person: Iterable[str], path: bytes) -> bool:
        """Tell whether it speaks of what these names of one person share of a folder of a system."""
        match self.on:
            case RuleOn.OFFICE:
                return True
            case RuleOn.SYSTEM:
                return self.name in ("", system)
            case RuleOn.PERSON:
                return self.name in person
            case RuleOn.FOLDER:
                mine = Address(self.system or system, self.path)
                return Address(system, path).is_within(mine)

    def describe(self) -> str:
        """Say where it stands."""
        return "the office" if self.on is RuleOn.OFFICE else f"{self.on.value} {self.name}".strip()


def tightest(rules: Iterable[PlacedRule]) -> SharingRule:
    """Return the rule that is as tight as the tightest of some."""
    found = SharingRule()
    for one in rules:
        found = found.tighter(one.rule)
    return found
