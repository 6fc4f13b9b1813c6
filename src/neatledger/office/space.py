"""The parts of office.yaml that speak of space, read into the plan."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import replace
from datetime import date
from typing import Any

from neatledger.core.plan.limits import UNLIMITED, Band, On, PlacedLimit, Pool, Warn
from neatledger.core.plan.plan import CLASSES
from neatledger.core.plan.space import Barred, Entitlement, SameAs, Sort, SpacePlan, SpaceRules, SyncRules
from neatledger.core.space.sizes import parse_limit, parse_size
from neatledger.office.addresses import parse_address
from neatledger.office.yamltext import Path as KeyPath

__all__ = ["NO_GRACE", "SpaceReader", "read_stated"]

NO_GRACE = "none"
"""What stands for no days of grace: a watched limit that may be passed for as long as one likes."""

_PLACES = (("folders", On.FOLDER), ("people", On.PERSON), ("groups", On.GROUP))
_SORTS = {"versions": Sort.VERSIONS, "bin": Sort.BIN, "snapshots": Sort.SNAPSHOTS}


def read_stated(one: Mapping[str, Any]) -> dict[str, Any]:
    """Return what a band or a limit states, under the names of `FIELDS`."""
    stated: dict[str, Any] = {}
    if "limit" in one:
        stated["limit"] = parse_limit(one["limit"])
    if "rule" in one:
        stated["enforced"] = one["rule"] == "enforced"
    if "grace-days" in one:
        stated["grace_days"] = None if one["grace-days"] == NO_GRACE else one["grace-days"]
    if "warn" in one:
        stated["warn"] = _warn(one["warn"])
    return stated


def _warn(one: Mapping[str, Any] | None) -> Warn:
    return tuple(sorted((int(level), tuple(who or ())) for level, who in (one or {}).items()))


class SpaceReader:
    """Makes the plan's part on space from values that fit the schema, and finds what a schema cannot."""

    def __init__(
        self,
        value: Mapping[str, Any],
        fault: Callable[[KeyPath, str, str], None],
        line: Callable[[KeyPath], int],
        day: Callable[[KeyPath, str | None], date | None],
        holders: set[str],
    ) -> None:
        self.value = value
        self.fault = fault
        self.line = line
        self.day = day
        self.holders = holders

    def read(self) -> SpacePlan:
        """Return the plan's part on space."""
        bands = {name: self._band(name, one or {}) for name, one in self._part("bands").items()}
        limits = [
            self._limit(part, on, key, one or {}, bands)
            for part, on in _PLACES
            for key, one in (self._part("limits").get(part) or {}).items()
        ]
        reports = self._part("reports").get("space") or {}
        self._named(("reports", "space", "mailed"), reports.get("mailed") or ())
        return SpacePlan(
            bands=bands,
            limits=tuple(limits),
            pools={name: self._pool(name, one) for name, one in self._part("pools").items()},
            entitlements=tuple(self._entitlement(name, one) for name, one in self._part("entitlements").items()),
            barred=tuple(
                Barred(parse_address(one["folder"]), _kinds(one["kinds"]), one.get("because", ""))
                for one in self.value.get("barred") or ()
            ),
            same_as=tuple(self._same_as()),
            sync=self._sync(),
            rules={name: self._rules(one.get("space") or {}) for name, one in self.value["systems"].items()},
            stored=tuple(map(parse_address, reports.get("stored") or ())),
            mailed=tuple(reports.get("mailed") or ()),
        )

    def _part(self, name: str) -> Mapping[str, Any]:
        return self.value.get(name) or {}

    def _system(self, path: KeyPath, system: str) -> None:
        if system not in self.value["systems"]:
            self.fault(path, f"the system {system!r}", f"one of: {', '.join(self.value['systems'])}")

    def _named(self, path: KeyPath, names: Any) -> None:
        for place, name in enumerate(names or ()):
            if name not in self.holders:
                self.fault((*path, place), repr(name), "a person or group of this plan")

    def _told(self, path: KeyPath, one: Mapping[str, Any]) -> None:
        for level, names in (one.get("warn") or {}).items():
            self._named((*path, "warn", level), names)
        if one.get("rule") != "watched" and one.get("grace-days", NO_GRACE) != NO_GRACE and "band" not in one:
            self.fault((*path, "grace-days"), "days of grace for an enforced limit", "`rule: watched`, or no grace")

    def _band(self, name: str, one: Mapping[str, Any]) -> Band:
        self._told(("bands", name), one)
        return Band(name, read_stated(one), self.line(("bands", name)))

    def _limit(self, part: str, on: On, key: str, one: Mapping[str, Any], bands: Mapping[str, Band]) -> PlacedLimit:
        here: KeyPath = ("limits", part, key)
        system, _, name = key.partition(":")
        self._system(here, system)
        if on is not On.FOLDER and name not in self.holders - (set(CLASSES) if on is On.GROUP else set()):
            self.fault(here, repr(name), "a person or group of this plan" if on is On.PERSON else "a group")
        band = one.get("band")
        if band is not None and band not in bands:
            self.fault((*here, "band"), f"the band {band!r}", f"one of: {', '.join(bands) or '(there are none)'}")
        if band is None and "limit" not in one:
            self.fault(here, "no `limit` and no `band`", "one of them")
        self._told(here, one)
        since = self.day((*here, "since"), one.get("since"))
        placed = PlacedLimit(on, key, system, name, bands.get(band or ""), read_stated(one), since)
        return replace(placed, because=one.get("because", ""), line=self.line(here))

    def _pool(self, name: str, one: Mapping[str, Any]) -> Pool:
        here: KeyPath = ("pools", name)
        for place, key in enumerate(one["holds"]):
            self._system((*here, "holds", place), key.partition(":")[0])
        self._told(here, one)
        size = parse_size(one["size"]) if "size" in one else None
        return Pool(name, tuple(one["holds"]), size, _warn(one.get("warn")), self.line(here))

    def _entitlement(self, name: str, one: Mapping[str, Any]) -> Entitlement:
        here: KeyPath = ("entitlements", name)
        self._named((*here, "holders"), one["holders"])
        for place, system in enumerate(one["systems"]):
            self._system((*here, "systems", place), system)
        space = parse_limit(one.get("space", "no limit"))
        until = self.day((*here, "until"), one.get("until"))
        return Entitlement(name, tuple(one["holders"]), tuple(one["systems"]), space, until)

    def _same_as(self) -> list[SameAs]:
        found = []
        for key, one in self._part("folders").items():
            if one and one.get("same-as"):
                there = parse_address(one["same-as"])
                self._system(("folders", key, "same-as"), there.system)
                here = parse_address(key)
                if here.is_within(there) or there.is_within(here):
                    self.fault(("folders", key, "same-as"), "a folder within this one", "another tree")
                found.append(SameAs(here, there))
        return found

    def _sync(self) -> SyncRules | None:
        one = self.value.get("sync")
        if one is None:
            return None
        largest, device = (parse_size(one[key]) if key in one else None for key in ("largest", "device"))
        folders = tuple(map(parse_address, one.get("without-folders") or ()))
        return SyncRules(_kinds(one.get("without-kinds") or ()), largest, folders, device)

    def _rules(self, one: Mapping[str, Any]) -> SpaceRules:
        patterns = {sort: tuple(text.encode("utf-8", "surrogateescape") for text in one.get(word) or ())
                    for word, sort in _SORTS.items()}  # fmt: skip
        kept = one.get("keep-versions")
        if isinstance(kept, int):
            kept = {"others": kept}
        if kept is not None:
            kept = {"" if kind == "others" else kind.lower().lstrip("."): number for kind, number in kept.items()}
        days = one.get("keep-bin-days")
        return SpaceRules(
            "bytes" if one.get("measure") == "apparent" else "occupied",
            patterns,
            frozenset({Sort.CURRENT, *(_SORTS[word] for word in one.get("counted") or ())}),
            kept,
            UNLIMITED if days == "for ever" else days,
            parse_size(one["largest-file"]) if "largest-file" in one else None,
            (one["starter"]["files"], parse_size(one["starter"]["size"])) if "starter" in one else None,
        )


def _kinds(words: Any) -> frozenset[str]:
    return frozenset(word.lower().lstrip(".") for word in words)
