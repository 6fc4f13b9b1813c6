"""The part of office.yaml that speaks of sharing, read into the plan."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import Any

from neatledger.core.plan.rules import Guests, PlacedRule, RuleOn, SharingRule
from neatledger.core.plan.sharing import SharingPlan
from neatledger.core.space.sizes import parse_limit
from neatledger.office.addresses import parse_address
from neatledger.office.yamltext import Path as KeyPath

__all__ = ["SharingReader", "read_rule"]


def read_rule(one: Mapping[str, Any]) -> SharingRule:
    """Return the rules that a mapping of the plan states."""
    domains = one.get("domains")
    largest = one.get("largest")
    return SharingRule(
        guests=Guests[one["guests"].upper()] if "guests" in one else None,
        domains=None if domains is None else frozenset(each.casefold() for each in domains),
        open_links=one.get("open-links"),
        download=one.get("download"),
        link_days=one.get("link-days"),
        folder_days=one.get("folder-days"),
        password=one.get("password"),
        largest=None if largest is None else parse_limit(largest),
        barred=frozenset(each.lower().lstrip(".") for each in one.get("barred-kinds") or ()),
        pass_on=one.get("pass-on"),
        chain=one.get("chain"),
        single_files=None if "share" not in one else one["share"] == "folders and files",
    )


class SharingReader:
    """Makes the plan's part on sharing from values that fit the schema, and finds what a schema cannot."""

    def __init__(
        self, value: Mapping[str, Any], fault: Callable[[KeyPath, str, str], None], line: Callable[[KeyPath], int]
    ) -> None:
        self.value = value
        self.fault = fault
        self.line = line

    def read(self) -> SharingPlan:
        """Return the plan's part on sharing."""
        part = self.value.get("sharing") or {}
        rules = []
        if part.get("office"):
            rules.append(
                PlacedRule(RuleOn.OFFICE, "", read_rule(part["office"]), "", self.line(("sharing", "office")))
            )
        for key, on in (("systems", RuleOn.SYSTEM), ("people", RuleOn.PERSON), ("folders", RuleOn.FOLDER)):
            for name, one in (part.get(key) or {}).items():
                rules.append(self._placed(key, on, name, one or {}))
        sensitive = [parse_address(each) for each in part.get("sensitive") or ()]
        for place, address in enumerate(sensitive):
            self._check_system(("sharing", "sensitive", place), address.system)
        return SharingPlan(tuple(rules), tuple(sensitive))

    def _placed(self, key: str, on: RuleOn, name: str, one: Mapping[str, Any]) -> PlacedRule:
        here: KeyPath = ("sharing", key, name)
        rule, line = read_rule(one), self.line(here)
        if on is RuleOn.FOLDER:
            address = parse_address(name)
            self._check_system(here, address.system)
            path = address.path.decode("utf-8", "surrogateescape")
            return PlacedRule(on, path, rule, address.system, line)
        if on is RuleOn.SYSTEM:
            self._check_system(here, name)
        elif name not in (self.value.get("people") or {}):
            self.fault(here, repr(name), "a person of this plan")
        return PlacedRule(on, name, rule, "", line)

    def _check_system(self, path: KeyPath, system: str) -> None:
        if system not in self.value["systems"]:
            self.fault(path, f"the system {system!r}", f"one of: {', '.join(self.value['systems'])}")
