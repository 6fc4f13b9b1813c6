"""The part of office.yaml that says how much may be lost, and what protects each system, read into the plan."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from datetime import date, timedelta
from typing import Any

from neatledger.core.plan.protection import (
    BackupRule,
    EncryptedFolder,
    ProtectionPlan,
    SnapshotRule,
    SystemProtection,
    Wanted,
    parse_duration,
)
from neatledger.core.tree.address import Address
from neatledger.errors import FormatError
from neatledger.office.addresses import parse_address
from neatledger.office.yamltext import Path as KeyPath

__all__ = ["read_protection"]

_Fault = Callable[[KeyPath, str, str], None]
_Day = Callable[[KeyPath, str | None], date | None]


def read_protection(value: Mapping[str, Any], fault: _Fault, day: _Day, known: set[str]) -> ProtectionPlan:
    """Return the plan's protection from values that fit the schema, and find what a schema cannot."""
    reader = _Reader(value, fault, day, known)
    wanted: dict[Address, Wanted] = {}
    for key, one in (value.get("protection") or {}).items():
        address = reader.address(key, ("protection", key))
        if address is not None:
            wanted[address] = reader.wanted(one or {}, ("protection", key))
    systems = {
        name: reader.system(one["protection"], ("systems", name, "protection"))
        for name, one in value["systems"].items()
        if one.get("protection")
    }
    return ProtectionPlan(wanted, systems)


class _Reader:
    def __init__(self, value: Mapping[str, Any], fault: _Fault, day: _Day, known: set[str]) -> None:
        self._value, self._fault, self._day, self._known = value, fault, day, known

    def address(self, text: str, where: KeyPath) -> Address | None:
        try:
            found = parse_address(text)
        except FormatError as error:
            self._fault(where, repr(text), str(error))
            return None
        if found.system not in self._value["systems"]:
            self._fault(where, repr(text), f"a system of this plan: {', '.join(self._value['systems'])}")
            return None
        return found

    def wanted(self, one: Mapping[str, Any], where: KeyPath) -> Wanted:
        names = one.get("restore")
        return Wanted(
            self._length(one.get("loss")),
            self._length(one.get("back")),
            self._length(one.get("reach")),
            one.get("copies"),
            one.get("elsewhere"),
            None if names is None else self._names(names, (*where, "restore")),
        )

    def _names(self, names: Sequence[str], where: KeyPath) -> tuple[str, ...]:
        for number, name in enumerate(names):
            if name not in self._known:
                self._fault((*where, number), repr(name), "a person or group of this plan")
        return tuple(names)

    @staticmethod
    def _length(text: str | None) -> timedelta | None:
        # The schema lets nothing else through.
        return None if text is None else parse_duration(text)

    @staticmethod
    def _path(text: str) -> bytes:
        return parse_address(f"x:{text}").path

    def system(self, one: Mapping[str, Any], where: KeyPath) -> SystemProtection:
        names: set[str] = set()
        backups = []
        for number, each in enumerate(one.get("backups") or ()):
            here: KeyPath = (*where, "backups", number)
            if each["name"] in names:
                self._fault((*here, "name"), repr(each["name"]), "a name of its own for each backup")
            names.add(each["name"])
            backups.append(self._backup(each, here))
        return SystemProtection(
            one.get("disk", ""),
            one.get("place", ""),
            tuple(
                SnapshotRule(
                    self._path(each["of"]), self._path(each["where"]), each.get("form", ""),
                    self._length(each.get("every")), self._length(each.get("keep")), self._length(each.get("took")),
                )
                for each in one.get("snapshots") or ()
            ),
            tuple(backups),
            tuple(
                EncryptedFolder(self._path(path), self._names(holders or (), (*where, "encrypted", path)))
                for path, holders in (one.get("encrypted") or {}).items()
            ),
            tuple(self._path(each) for each in one.get("synced") or ()),
        )  # fmt: skip

    def _backup(self, one: Mapping[str, Any], where: KeyPath) -> BackupRule:
        return BackupRule(
            one["name"],
            tuple(self._path(each) for each in one["of"]),
            tuple(self._path(each) for each in one.get("without") or ()),
            one.get("disk", ""),
            one.get("place", ""),
            self.address(one["at"], (*where, "at")) if "at" in one else None,
            self._length(one.get("every")),
            self._length(one.get("keep")),
            one.get("runs", ""),
            one.get("archives", ""),
            self._day((*where, "tried"), one.get("tried")),
            self._length(one.get("took")),
            self._names(one.get("restore") or (), (*where, "restore")),
        )
