"""Limits as a plan would say them: bands of those that are alike, exceptions with what was found, and questions."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field

from neatledger.core.drafting.folders import Question
from neatledger.core.plan.limits import UNLIMITED, On, Settings
from neatledger.core.space.sizes import show_limit, unit_fault

__all__ = ["DraftLimit", "DraftLimits", "FoundOn", "LimitDrafter"]

_ZERO = "a limit of zero: no limit, or nothing may be stored?"
_LEAST_ALIKE = 3
"""So many places with one limit make a band."""


@dataclass(frozen=True, slots=True)
class FoundOn:
    """A limit that a system has: what it is on (a path, a person's id, a group of the plan), and what holds."""

    on: On
    name: str
    settings: Settings


@dataclass(frozen=True, slots=True)
class DraftLimit:
    """One limit of the plan; `own` is what it states beside its band, or without one."""

    on: On
    key: str
    band: str
    own: Settings | None
    why: str = ""


@dataclass
class DraftLimits:
    """What limits come to: bands by name, limits by where they are, and questions."""

    bands: dict[str, Settings] = field(default_factory=dict)
    limits: list[DraftLimit] = field(default_factory=list)
    questions: list[Question] = field(default_factory=list)


class LimitDrafter:
    """Drafts the limits of one system after the other; bands that are alike are one for all."""

    def __init__(self, taken: Iterable[str]) -> None:
        """Begin with the names that bands have already."""
        self._taken = set(taken)
        self.found = DraftLimits()

    def add(
        self,
        system: str,
        found: Sequence[FoundOn],
        inside: Mapping[str, Sequence[str]],
        homes: Iterable[str],
        staff: Iterable[str],
    ) -> None:
        """Add what one system has.

        `inside` gives the subfolders of a folder by name, `homes` are the folders of people's homes, and `staff` the
        people there who are no guests.
        """
        self._folders(system, [one for one in found if one.on is On.FOLDER], inside, set(homes))
        self._people(system, [one for one in found if one.on is On.PERSON], list(staff))
        self._some(system, On.GROUP, [one for one in found if one.on is On.GROUP], "group")

    def _folders(
        self, system: str, found: Sequence[FoundOn], inside: Mapping[str, Sequence[str]], homes: set[str]
    ) -> None:
        by_parent: dict[str, list[FoundOn]] = {}
        for one in found:
            by_parent.setdefault(one.name.rpartition("/")[0], []).append(one)
        # The root lies in no folder, though its name ends where theirs begin.
        whole = [one for one in by_parent.get("", []) if one.name == "/"]
        by_parent[""] = [one for one in by_parent.get("", []) if one.name != "/"]
        self._some(system, On.FOLDER, whole, "system")
        for parent, some in by_parent.items():
            word = (
                "home"
                if (parent or "/") in homes
                else (parent.rpartition("/")[2].casefold().replace(" ", "-") or "folder")
            )
            usual = _usual(some)
            names = inside.get(parent, ())
            if usual is None or 2 * sum(one.settings == usual for one in some) <= len(names):
                self._some(system, On.FOLDER, some, word)
                continue
            band = self._band(word, usual)
            self.found.limits.append(DraftLimit(On.FOLDER, f"{system}:{parent}/*", band, None))
            self._exceptions(system, On.FOLDER, some, usual, band)
            limited = {one.name.rpartition("/")[2] for one in some}
            self._ask(f"{system}:{parent}/*", [one for one in names if one not in limited], usual)

    def _people(self, system: str, found: Sequence[FoundOn], staff: Sequence[str]) -> None:
        mine = [one for one in found if one.name in staff]
        usual = _usual(mine)
        if usual is None or 2 * sum(one.settings == usual for one in mine) <= len(staff):
            self._some(system, On.PERSON, found, "person")
            return
        band = self._band("person", usual)
        self.found.limits.append(DraftLimit(On.PERSON, f"{system}:staff", band, None))
        self._exceptions(system, On.PERSON, mine, usual, band)
        self._some(system, On.PERSON, [one for one in found if one not in mine], "guest")
        limited = {one.name for one in mine}
        self._ask(f"{system}:staff", [one for one in staff if one not in limited], usual)

    def _exceptions(self, system: str, on: On, some: Sequence[FoundOn], usual: Settings, band: str) -> None:
        for one in some:
            limit, others = one.settings.limit, usual.limit
            slip = unit_fault(limit, others) if isinstance(limit, int) and isinstance(others, int) else ""
            if slip or limit == 0:
                text = f"{show_limit(limit)} where the others have {show_limit(others)}: {slip or _ZERO}"
                self.found.questions.append(Question(f"{system}:{one.name}", text))
            elif one.settings != usual:
                why = f"{show_limit(one.settings.limit)} where the others have {show_limit(usual.limit)}"
                self.found.limits.append(DraftLimit(on, f"{system}:{one.name}", band, one.settings, why))

    def _ask(self, place: str, lacking: Sequence[str], usual: Settings) -> None:
        if lacking:
            text = f"no limit is told of {', '.join(lacking)}, where the others have {show_limit(usual.limit)}"
            self.found.questions.append(Question(place, f"{text}: is that meant?"))

    def _some(self, system: str, on: On, some: Sequence[FoundOn], word: str) -> None:
        """Take over limits one by one, with a band for those that are alike."""
        counted = Counter(one.settings for one in some)
        for one in some:
            if one.settings.limit is UNLIMITED:
                continue
            if one.settings.limit == 0:
                self.found.questions.append(Question(f"{system}:{one.name}", _ZERO))
                continue
            is_alike = counted[one.settings] >= _LEAST_ALIKE
            band = self._band(word, one.settings) if is_alike else ""
            key = f"{system}:{one.name}"
            self.found.limits.append(DraftLimit(on, key, band, None if is_alike else one.settings))

    def _band(self, word: str, settings: Settings) -> str:
        """Return the name of the band of some settings: one that is there, or a new one."""
        known = next((name for name, one in self.found.bands.items() if one == settings), None)
        if known is not None:
            return known
        tried = (word, *(f"{word}-{number}" for number in range(2, 10_000)))
        name = next(one for one in tried if one not in self._taken)
        self._taken.add(name)
        self.found.bands[name] = settings
        return name


def _usual(some: Sequence[FoundOn]) -> Settings | None:
    """Return what most have, where so many do that it is a band."""
    counted = Counter(one.settings for one in some if one.settings.limit is not UNLIMITED)
    settings, times = max(counted.items(), key=lambda one: one[1], default=(None, 0))
    return settings if times >= _LEAST_ALIKE else None
