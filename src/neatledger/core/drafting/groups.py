"""Groups from systems: those of several systems that hold the same people under names alike are one."""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass

from neatledger.core.plan.plan import CLASSES

__all__ = ["DraftGroup", "FoundGroup", "draft_groups"]

_BARRED = re.compile(r"[\s:/@,]+")
"""What stands in no key of a plan."""


@dataclass(frozen=True, slots=True)
class FoundGroup:
    """One group of a system with all the people in it, by their ids."""

    system: str
    ident: str
    name: str
    people: frozenset[str]


@dataclass(frozen=True, slots=True)
class DraftGroup:
    """One group of the plan: its people, and what systems call it where that is another name."""

    name: str
    people: tuple[str, ...]
    names: Mapping[str, str]
    found: tuple[FoundGroup, ...]


def draft_groups(found: Sequence[FoundGroup], systems: Iterable[str], taken: Iterable[str]) -> list[DraftGroup]:
    """Return the groups of the plan; `taken` are names that stand for something else already.

    Groups of two systems are one where their names are alike, a system's own name aside, and their people the same.
    """
    prefixes = [re.escape(one.casefold()) for one in systems]
    aside = re.compile(rf"^(?:{'|'.join(prefixes)})[ ._-]+|[ ._-]+(?:{'|'.join(prefixes)})$") if prefixes else None
    used = {one.casefold() for one in taken} | set(CLASSES)
    alike: dict[tuple[str, frozenset[str]], list[FoundGroup]] = {}
    for one in found:
        word = one.name.casefold()
        core = aside.sub("", word) if aside else word
        key = core, one.people
        # Two of one system are two on purpose.
        if any(other.system == one.system for other in alike.get(key, ())):
            key = word, one.people
        alike.setdefault(key, []).append(one)
    drafted = []
    for (core, people), some in alike.items():
        name = _free(core or some[0].name.casefold(), some[0].system, used)
        used.add(name)
        names = {one.system: one.name for one in some if one.name != name}
        drafted.append(DraftGroup(name, tuple(sorted(people)), names, tuple(some)))
    return drafted


def _free(name: str, system: str, used: set[str]) -> str:
    """Return a name that nothing else has: a class of people and a person keep theirs."""
    word = _BARRED.sub("-", name).strip("-") or "group"
    tried = (word, f"{system}-{word}", *(f"{system}-{word}-{number}" for number in range(2, 1_000)))
    return next(one for one in tried if one not in used)
