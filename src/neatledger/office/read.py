"""Read office.yaml: every fault with file, line, column, what was found and what was expected, at once."""

from __future__ import annotations

import json
import os
import re
from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass
from datetime import date
from functools import lru_cache
from importlib import resources
from pathlib import Path
from typing import Any
from urllib.parse import urlsplit

from neatledger.core.lists.rights import Level
from neatledger.core.lists.table import MODELS
from neatledger.core.people.credentials import LOOPBACK
from neatledger.core.plan.plan import (
    CLASSES,
    Acceptance,
    Bound,
    Expectation,
    Kind,
    Person,
    Plan,
    PlanFolder,
    PlanGroup,
    PlanSystem,
    Signer,
)
from neatledger.core.space.sizes import parse_size
from neatledger.core.tree.address import Address
from neatledger.errors import Fault, FormatError, OfficeError, PlanError, UsageError
from neatledger.formats.nearest import nearest
from neatledger.formats.signature import key_words
from neatledger.office.addresses import parse_address
from neatledger.office.faults import Schema, schema_faults
from neatledger.office.fitting import take_what_fits
from neatledger.office.former import renew_spelling
from neatledger.office.notices import read_notices
from neatledger.office.posts import PostReader
from neatledger.office.protection import read_protection
from neatledger.office.sharing import SharingReader
from neatledger.office.space import SpaceReader
from neatledger.office.yamltext import Marks, load_yaml
from neatledger.office.yamltext import Path as KeyPath

__all__ = [
    "PLAN_NAME",
    "Stated",
    "check_system_name",
    "load_schema",
    "parse_plan",
    "read_plan",
    "read_plan_file",
    "read_stated",
]

PLAN_NAME = "office.yaml"
# What each source cannot do without, beside its name.
_MOST_BYTES = (1 << 63) - 1  # what a file system can count, and what a ledger can keep
_IS_SIZE = re.compile(r"[0-9]{1,15}(\.[0-9]{1,15})? ?(B|[kMGTPE]B|[KMGTPE]iB)")
_NEEDS: dict[str, tuple[str, ...]] = {
    "tree": ("path",),
    "listing": ("path",),
    "smb": ("host",),
    "directory": ("accounts",),
    "dav": ("url", "accounts"),
}


def load_schema() -> dict[str, Any]:
    """Return the JSON Schema of office.yaml; which sorts of lists there are, the table of their models says."""
    text = resources.files("neatledger.office").joinpath("schema.json").read_text("utf-8")
    schema: dict[str, Any] = json.loads(text)
    schema["$defs"]["system"]["properties"]["lists"]["enum"] = list(MODELS)
    return schema


@lru_cache(maxsize=1)
def _schema() -> Schema:
    return Schema(load_schema())


def check_system_name(name: str) -> None:
    """Raise `UsageError` for a name that a plan would refuse: before a server is asked anything for it."""
    wanted = _schema().value["$defs"]["systemName"]
    if not re.fullmatch(wanted["pattern"], name):
        raise UsageError(f"a system cannot be called {name!r}", hint=f"a name is {wanted['title']}")


def read_plan(office_dir: Path) -> Plan:
    """Read the plan of an office; raises `OfficeError`, or `PlanError` with all faults."""
    path = office_dir / PLAN_NAME
    if not path.exists():
        hint = "name it with --office, or make one: neatledger connect NAME=ADDRESS"
        raise OfficeError("there is no office here", str(path), hint)
    return read_plan_file(path)


def read_plan_file(path: Path) -> Plan:
    """Read the plan in a file; raises `OfficeError`, or `PlanError` with all faults."""
    try:
        text = path.read_text("utf-8")
    except (OSError, UnicodeDecodeError) as error:
        raise OfficeError(f"cannot read the plan: {error}", str(path)) from None
    return parse_plan(text, str(path))


# Many offices are read for their names and then for what they mean; and who asks from Python opens an office anew for
# each question. A plan is never changed where it is: one text is one plan.
@lru_cache(maxsize=4)
def parse_plan(text: str, where: str) -> Plan:
    """Parse the text of office.yaml; raises `PlanError` with all faults."""
    faults: list[Fault] = []
    value, marks = load_yaml(text, where, faults)
    renew_spelling(value, marks)
    faults += schema_faults(value, marks, _schema(), where)
    if faults and not take_what_fits(value, marks, _schema()):
        raise PlanError(faults)
    beyond = list(_beyond(value, ()))
    if beyond:
        for path, text, expected in beyond:
            line, column = marks.get(path, (1, 1))
            faults.append(Fault(f"{where}:{line}:{column}", repr(text), expected))
        raise PlanError(faults)
    return _Builder(value, marks, where, faults).build()


def _beyond(value: object, path: KeyPath) -> Iterator[tuple[KeyPath, str, str]]:
    """Yield sizes that are written as such and are more than there can be: no schema adds them up."""
    match value:
        case dict():
            for key, inner in value.items():
                yield from _beyond(inner, (*path, key))
        case list():
            for place, inner in enumerate(value):
                yield from _beyond(inner, (*path, place))
        case str() if _IS_SIZE.fullmatch(value):
            if parse_size(value) > _MOST_BYTES:
                yield path, value, "a size that a disk can have: less than 9 EB"


class _Builder:
    """Makes the plan from values that fit the schema, and finds what a schema cannot."""

    def __init__(self, value: dict[str, Any], marks: Marks, where: str, faults: Iterable[Fault] = ()) -> None:
        self.value = value
        self.marks = marks
        self.where = where
        self.faults = list(faults)

    def build(self) -> Plan:
        value = self.value
        people = {ident: self._person(ident, one or {}) for ident, one in (value.get("people") or {}).items()}
        groups = {name: self._group(name, one or {}) for name, one in (value.get("groups") or {}).items()}
        self._check_names(people, groups)
        posts = PostReader(value, self._fault, self._line, self._date, self._check_system)
        known = {*people, *groups, *CLASSES}
        folders = [self._folder(key, one or {}, known) for key, one in (value.get("folders") or {}).items()]
        self._check_twice(folders)
        plan = Plan(
            office=value["office"],
            domain=value.get("domain", ""),
            systems={name: self._system(name, one) for name, one in value["systems"].items()},
            people={ident: posts.of_person(person) for ident, person in people.items()},
            groups=groups,
            posts=posts.posts(),
            notices=read_notices(value, self._fault, self._line, known),
            folders=tuple(folders),
            expectations=tuple(
                self._expectation(place, one, known) for place, one in enumerate(value.get("expectations") or [])
            ),
            accepted=tuple(self._acceptance(place, one) for place, one in enumerate(value.get("accepted") or [])),
            settings=value.get("settings") or {},
            protection=read_protection(value, self._fault, self._date, known),
            sharing=SharingReader(value, self._fault, self._line).read(),
            ledger=value.get("ledger", ""),
            signers=self._signers(value),
            workers=value.get("workers") or {},
            space=SpaceReader(value, self._fault, self._line, self._date, known).read(),
        )
        if self.faults:
            self.faults.sort(key=_by_line)
            raise PlanError(self.faults)
        return plan

    def _fault(self, path: KeyPath, found: str, expected: str) -> None:
        line, column = self.marks.get(path, (1, 1))
        self.faults.append(Fault(f"{self.where}:{line}:{column}", found, expected))

    def _line(self, path: KeyPath) -> int:
        return self.marks.get(path, (0, 0))[0]

    def _signers(self, value: Mapping[str, Any]) -> dict[str, Signer]:
        found = {}
        for name, told in (value.get("signers") or {}).items():
            for system in told["systems"]:
                if system not in value["systems"]:
                    self._fault(("signers", name, "systems"), repr(system), "a system of this plan")
            try:
                key = key_words(told["key"])
            except FormatError as error:
                self._fault(("signers", name, "key"), repr(told["key"]), str(error))
            else:
                found[name] = Signer(key, tuple(told["systems"]), told.get("office") or value["office"])
        return found

    def _system(self, name: str, one: Mapping[str, Any]) -> PlanSystem:
        for key in _NEEDS.get(one["source"], ()):
            if key not in one:
                self._fault(("systems", name), f"a {one['source']} without `{key}`", f"its `{key}`")
        if one["source"] == "smb" and isinstance(one.get("shares"), str):
            self._fault(("systems", name, "shares"), repr(one["shares"]), "a list of shares")
        self._addresses(name, one)
        homes = tuple(parse_address(f"{name}:{path}").path for path in one.get("homes", ()))
        return PlanSystem(name, one["source"], one, homes, one.get("title", ""))

    def _addresses(self, name: str, one: Mapping[str, Any]) -> None:
        """Find the addresses in or to which a password would stand for all to read: no question is put to them."""
        asked: list[tuple[KeyPath, Any, Any]] = [(("url",), one.get("url"), one.get("web"))]
        sharing, accounts = one.get("sharing"), one.get("accounts")
        if isinstance(sharing, Mapping):
            asked.append((("sharing", "url"), sharing.get("url"), one.get("web")))
        if isinstance(accounts, Mapping):
            asked.append((("accounts", "scim"), accounts.get("scim"), one.get("web")))
            directory = accounts.get("ldap")
            asked.append((("accounts", "ldap", "url"), directory.get("url") if directory else None, None))
        for number, figures in enumerate(one.get("figures") or ()):
            asked.append((("figures", number, "url"), figures.get("url"), figures))
        for path, url, web in asked:
            parts = urlsplit(url or "")
            if "@" in parts.netloc:
                expected = "no user or password in it: the user belongs under web, the password into the keyring"
                self._fault(("systems", name, *path), f"'{parts.scheme}://…@{parts.hostname}'", expected)
            elif parts.scheme == "http" and (web or {}).get("user") and parts.hostname not in LOOPBACK:
                expected = "https://, or the password would go over the network for all to read"
                self._fault(("systems", name, *path), repr(url), expected)

    def _date(self, path: KeyPath, text: str | None) -> date | None:
        if text is None:
            return None
        try:
            return date.fromisoformat(text)
        except ValueError:
            self._fault(path, repr(text), "a day of the calendar")
            return None

    def _person(self, ident: str, one: Mapping[str, Any]) -> Person:
        here: KeyPath = ("people", ident)
        accounts: dict[str, tuple[str, ...]] = {}
        for system, logins in (one.get("accounts") or {}).items():
            self._check_system((*here, "accounts", system), system)
            accounts[system] = (logins,) if isinstance(logins, str) else tuple(logins)
        start = self._date((*here, "start"), one.get("start"))
        end = self._date((*here, "end"), one.get("end"))
        if start and end and end < start:
            self._fault((*here, "end"), f"an end before the start ({start})", "a later day")
        return Person(
            ident,
            one.get("name", ident),
            Kind(one.get("kind", "staff")),
            one.get("email", ""),
            accounts,
            start,
            end,
        )

    def _group(self, name: str, one: Mapping[str, Any]) -> PlanGroup:
        for system in one.get("names") or {}:
            self._check_system(("groups", name, "names", system), system)
        return PlanGroup(name, tuple(one.get("members") or ()), one.get("names") or {})

    def _check_system(self, path: KeyPath, system: str) -> None:
        if system not in self.value["systems"]:
            known = ", ".join(self.value["systems"])
            self._fault(path, f"the system {system!r}", f"one of: {known}")

    def _check_names(self, people: Mapping[str, Person], groups: Mapping[str, PlanGroup]) -> None:
        for name, group in groups.items():
            if name in people or name in CLASSES:
                taken = "a person" if name in people else "a class of people"
                own = f"another name here, and beside it names: {{SYSTEM: {name}}}"
                self._fault(("groups", name), f"a group named as {taken}, {name!r}", own)
            for place, member in enumerate(group.members):
                if member not in people and member not in groups:
                    path = "groups", name, "members", place
                    self._fault(path, repr(member), _known_as(member, {*people, *groups}, _NAMED))
        for ident in people:
            if ident in CLASSES:
                self._fault(("people", ident), f"a person named as a class, {ident!r}", "another id")
        taken_by: dict[tuple[str, str], str] = {}
        for ident, person in people.items():
            for system, logins in person.accounts.items():
                for login in logins:
                    other = taken_by.setdefault((system, login), ident)
                    if other != ident:
                        self._fault(
                            ("people", ident, "accounts", system),
                            f"{login!r}, which {other} has",
                            "an account of one",
                        )

        self._check_groups(groups)

    def _check_groups(self, groups: Mapping[str, PlanGroup]) -> None:
        """Tell where two groups of the plan are one group of a system: nobody could say who is meant to be in it."""
        meant: dict[tuple[str, str], str] = {}
        called = {(system, own): name for name, one in groups.items() for system, own in one.names.items()}
        for (system, own), name in called.items():
            for other, group in groups.items():
                if other != name and group.names.get(system) == own:
                    first, second = sorted((name, other), key=list(groups).index)
                    if meant.setdefault((system, own), second) == second:
                        line = self._line(("groups", first))
                        which = f"the group {own!r} of {system}, which {first!r} is too (line {line})"
                        self._fault(("groups", second), which, "one group of the plan for one of a system")

    def _check_twice(self, folders: Iterable[PlanFolder]) -> None:
        seen: dict[Address, int] = {}
        for folder in folders:
            if folder.address in seen:
                text = f"{folder.address.system}:{os.fsdecode(folder.address.path)}"
                self.faults.append(
                    Fault(
                        f"{self.where}:{folder.line}:3",
                        f"{text} again",
                        f"one entry (see line {seen[folder.address]})",
                    )
                )
            seen.setdefault(folder.address, folder.line)

    def _holder(self, path: KeyPath, holder: str, known: set[str]) -> None:
        if holder not in known:
            self._fault(path, repr(holder), _known_as(holder, known, f"{_NAMED}, or {', '.join(CLASSES)}"))

    def _folder(self, key: str, one: Mapping[str, Any], known: set[str]) -> PlanFolder:
        here: KeyPath = ("folders", key)
        address = parse_address(key)
        self._check_system(here, address.system)
        grants = {holder: Level(level) for holder, level in (one.get("grants") or {}).items()}
        for holder in grants:
            self._holder((*here, "grants", holder), holder, known)
        for key in ("owner", "decides"):
            if one.get(key) and one[key] not in (self.value.get("people") or {}):
                self._fault((*here, key), repr(one[key]), "a person of this plan")
        closed, owner, decides = bool(one.get("closed", False)), one.get("owner", ""), one.get("decides", "")
        return PlanFolder(address, grants, closed, owner, self._line(here), decides, one.get("title", ""))

    def _expectation(self, place: int, one: Mapping[str, Any], known: set[str]) -> Expectation:
        here: KeyPath = ("expectations", place)
        address = parse_address(one["folder"])
        self._check_system((*here, "folder"), address.system)
        for number, holder in enumerate(one["holders"]):
            self._holder((*here, "holders", number), holder, known)
        bound = next(bound for bound in Bound if bound.value in one)
        name = one.get("name") or f"{one['folder']} {bound.value} {one[bound.value]}"
        level = Level(one[bound.value])
        return Expectation(name, address.system, address.path, bound, level, tuple(one["holders"]), self._line(here))

    def _acceptance(self, place: int, one: Mapping[str, Any]) -> Acceptance:
        here: KeyPath = ("accepted", place)
        until = self._date((*here, "until"), one.get("until"))
        return Acceptance(one["check"], one["place"], one["reason"], until, self._line(here))


_NAMED = "a person or group of this plan"


def _known_as(word: str, known: Iterable[str], expected: str) -> str:
    """Return what was expected in place of a name that nobody has, the nearest one first."""
    found = nearest(word, known)
    return f"{' or '.join(found)}? {expected}" if found else expected


def _by_line(fault: Fault) -> tuple[int, int]:
    *_, line, column = fault.where.split(":")
    return int(line), int(column)


def read_stated(office_dir: Path) -> Stated:
    """Return what the text of a plan says, with its lines; raises `OfficeError`, or `PlanError`."""
    path = office_dir / PLAN_NAME
    # A plan with faults is told first.
    read_plan(office_dir)
    return Stated(*load_yaml(path.read_text("utf-8"), str(path)))


@dataclass(frozen=True, slots=True)
class Stated:
    """The values of a plan as they are written, and where each stands."""

    value: Mapping[str, Any]
    marks: Marks

    def entries(self, *path: str) -> Mapping[str, Any]:
        """Return what is written at a path of keys; nothing where nothing is."""
        found: Any = self.value
        for key in path:
            found = (found or {}).get(key)
        return found or {}

    def line(self, *path: str | int) -> int:
        """Return the line of what is written at a path of keys and places."""
        return self.marks.get(path, (0, 0))[0]
