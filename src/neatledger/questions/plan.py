"""What the plan says of a person or a folder, each word with its line; and what it names that no system knows."""

from __future__ import annotations

import os
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from neatledger.core.lists.rights import level_of
from neatledger.core.plan.plan import CLASSES
from neatledger.core.plan.rules import RuleOn
from neatledger.core.tree.address import Address
from neatledger.core.tree.columns import SeenState
from neatledger.core.tree.patterns import match_path
from neatledger.formats.names import show_address
from neatledger.formats.nearest import nearest
from neatledger.ledger.locations import nearest_folders
from neatledger.office.addresses import parse_address
from neatledger.office.read import Stated, read_stated
from neatledger.questions.office import Office

__all__ = ["Saying", "Unmatched", "ask_folder", "ask_person", "ask_unmatched"]


@dataclass(frozen=True, slots=True)
class Saying:
    """One thing that the plan says: of what it speaks, what it says, of whom, and where that stands."""

    about: str
    says: str
    people: tuple[str, ...]
    stands: str
    line: int


@dataclass(frozen=True, slots=True)
class Unmatched:
    """A name of the plan that a system does not know, and the ones there that are most like it."""

    what: str
    name: str
    system: str
    line: int
    nearest: tuple[str, ...]


# A folder ----------------------------------------------------------------------------------------------


def ask_folder(office: Office, address: Address | str) -> list[Saying]:
    """Return all that the plan says of a folder, what reaches it from above included."""
    address = office.address(address)
    stated = read_stated(office.folder)
    return [*_grants(office, stated, address), *_of_folder(office, stated, address)]


def _grants(office: Office, stated: Stated, address: Address) -> Iterator[Saying]:
    plan = office.plan
    keys = {parse_address(key): key for key in stated.entries("folders")}
    for folder, holder, level in plan.grants_at(address):
        key = keys[folder.address]
        people = () if holder in CLASSES or holder in plan.people else tuple(sorted(plan.members.get(holder, ())))
        is_owner = holder == folder.owner and holder not in folder.grants
        path = ("folders", key, "owner") if is_owner else ("folders", key, "grants", holder)
        word = f"{holder} {level.value}" + (", as its owner" if is_owner else "")
        yield Saying("access", word, people, show_address(folder.address), stated.line(*path))
    for folder in sorted(plan.folders, key=lambda one: -len(one.address.parts)):
        if folder.closed and address.is_within(folder.address):
            where = stated.line("folders", keys[folder.address], "closed")
            text = "closed: nothing comes from above it"
            yield Saying("access", text, (), show_address(folder.address), where)
            return


def _of_folder(office: Office, stated: Stated, address: Address) -> Iterator[Saying]:
    yield from _of_named_folders(stated, address)
    yield from _sharing_of(office, stated, address)
    yield from _space_of(stated, address)
    for one in office.plan.expectations:
        if one.system == address.system and match_path(one.pattern, address.path):
            text = f"expected: {one.bound.value} {one.level.value} for {', '.join(one.holders)}"
            yield Saying("checked", text, (), f"{one.system}:{os.fsdecode(one.pattern)}", one.line)


def _of_named_folders(stated: Stated, address: Address) -> Iterator[Saying]:
    for key, one in stated.entries("folders").items():
        for word, about in (("decides", "reviews"), ("same-as", "space")):
            if one and one.get(word) and address.is_within(parse_address(key)):
                yield Saying(about, f"{word}: {one[word]}", (), key, stated.line("folders", key, word))


def _sharing_of(office: Office, stated: Stated, address: Address) -> Iterator[Saying]:
    for place, text in enumerate(stated.entries("sharing", "sensitive")):
        if address.is_within(parse_address(text)):
            yield Saying("sharing", "sensitive", (), text, stated.line("sharing", "sensitive", place))
    parts = {RuleOn.OFFICE: "office", RuleOn.SYSTEM: "systems", RuleOn.FOLDER: "folders"}
    for rule in office.plan.sharing.rules:
        if rule.on in parts and rule.covers(address.system, (), address.path):
            yield from _rules(stated, ("sharing", parts[rule.on]), rule.line, rule.describe())


def _space_of(stated: Stated, address: Address) -> Iterator[Saying]:
    upwards = [b"/" + b"/".join(address.parts[:depth]) for depth in range(len(address.parts) + 1)]
    for key, one in stated.entries("limits", "folders").items():
        there = parse_address(key)
        if there.system == address.system and any(match_path(there.path, path) for path in upwards):
            yield Saying("space", _words(one), (), key, stated.line("limits", "folders", key))
    for name, one in stated.entries("pools").items():
        holding = [text for text in one["holds"] if address.is_within(parse_address(text))]
        if holding:
            yield Saying("space", f"in the pool {name}", (), holding[0], stated.line("pools", name))
    for place, one in enumerate(stated.value.get("barred") or ()):
        if address.is_within(parse_address(one["folder"])):
            text = f"barred: {', '.join(one['kinds'])}"
            yield Saying("space", text, (), one["folder"], stated.line("barred", place))


def _rules(stated: Stated, part: tuple[str, ...], line: int, where: str) -> Iterator[Saying]:
    for path, one in _entries(stated, part):
        if stated.line(*path) == line:
            for key, value in (one or {}).items():
                yield Saying("sharing", f"{key}: {_word(value)}", (), where, stated.line(*path, key))


def _entries(stated: Stated, part: tuple[str, ...]) -> Iterator[tuple[tuple[str, ...], Mapping[str, Any]]]:
    if part[-1] == "office":
        yield part, stated.entries(*part)
        return
    for name, one in stated.entries(*part).items():
        yield (*part, name), one


def _words(one: Mapping[str, Any] | None) -> str:
    return ", ".join(f"{key}: {_word(value)}" for key, value in (one or {}).items())


def _word(value: Any) -> str:
    if isinstance(value, bool):
        return str(value).lower()
    if isinstance(value, list):
        return ", ".join(map(str, value))
    if isinstance(value, dict):
        return ", ".join(f"{key} {_word(each)}" for key, each in value.items())
    return str(value)


# A person ----------------------------------------------------------------------------------------------


def ask_person(office: Office, person: str) -> list[Saying]:
    """Return all that the plan says of one of its people; raises `UnknownNameError`."""
    ident = office.find_planned(person)
    stated, plan = read_stated(office.folder), office.plan
    here = ("people", ident)
    found = [
        Saying("person", f"{key}: {_word(value)}", (), ident, stated.line(*here, key))
        for key, value in stated.entries(*here).items()
        if key not in ("accounts", "posts", "beyond")
    ]
    found += _posts_of(office, stated, ident)
    found += [
        Saying("account", f"{system}: {', '.join(logins)}", (), ident, stated.line(*here, "accounts", system))
        for system, logins in plan.people[ident].accounts.items()
    ]
    for name in plan.groups_of[ident]:
        members = plan.groups[name].members
        path: tuple[str | int, ...] = ("groups", name)
        is_direct = ident in members
        given = "" if is_direct else plan.why_given(ident, name)
        via = (
            (f" ({given})" if given else "")
            if is_direct or given
            else f" (through {', '.join(one for one in members if ident in plan.members.get(one, ()))})"
        )
        if is_direct:
            path = (*path, "members", members.index(ident))
        found.append(Saying("group", f"in {name}{via}", (), name, stated.line(*path)))
    found += _their_access(office, stated, ident)
    return found + list(_of_person(office, stated, ident))


def _posts_of(office: Office, stated: Stated, ident: str) -> Iterator[Saying]:
    person = office.plan.people[ident]
    for held in person.posts:
        post = office.plan.posts[held.post]
        days = "".join(f", {word} {day}" for word, day in (("from", held.start), ("until", held.until)) if day)
        groups = f": groups {', '.join(post.groups)}" if post.groups else ""
        yield Saying("post", f"{post.name}{days}{groups}", (), ident, held.line)
    for one in person.beyond:
        what = f"group {one.group}" if one.folder is None else show_address(one.folder)
        until = f", until {one.until}" if one.until else ""
        yield Saying("beyond posts", f"{what}{until}: {one.because}", (), ident, one.line)


def _their_access(office: Office, stated: Stated, ident: str) -> Iterator[Saying]:
    plan = office.plan
    for key in stated.entries("folders"):
        address = parse_address(key)
        rights, grants = plan.rights_at(address, ident)
        word = level_of(rights).value if rights else "nothing"
        own = [(holder, level) for folder, holder, level in grants if folder.address == address]
        by = ", ".join(f"{holder} {level.value}" for holder, level in own) or (
            "from above" if rights else "no grant reaches them"
        )
        line = stated.line("folders", key, "grants", own[0][0]) if own else 0
        yield Saying("access", f"{word}: {by}", (), key, line or stated.line("folders", key))


def _of_person(office: Office, stated: Stated, ident: str) -> Iterator[Saying]:
    plan = office.plan
    for key, one in stated.entries("limits", "people").items():
        if plan.is_holder(key.partition(":")[2], ident):
            yield Saying("space", _words(one), (), key, stated.line("limits", "people", key))
    for name, one in stated.entries("entitlements").items():
        if any(plan.is_holder(holder, ident) for holder in one["holders"]):
            text = f"entitled on {', '.join(one['systems'])}: {one.get('space', 'no limit')}"
            yield Saying("space", text, (), name, stated.line("entitlements", name))
    for key, value in (stated.entries("sharing", "people").get(ident) or {}).items():
        yield Saying("sharing", f"{key}: {_word(value)}", (), ident, stated.line("sharing", "people", ident, key))
    for key, one in stated.entries("folders").items():
        for word in ("owner", "decides"):
            if one and one.get(word) == ident:
                yield Saying("reviews", word, (), key, stated.line("folders", key, word))
    for one in plan.expectations:
        if any(plan.is_holder(holder, ident) for holder in one.holders):
            text = f"expected: {one.bound.value} {one.level.value}"
            yield Saying("checked", text, (), f"{one.system}:{os.fsdecode(one.pattern)}", one.line)


# Names that no system knows ----------------------------------------------------------------------------


def ask_unmatched(office: Office) -> list[Unmatched]:
    """Return the accounts, groups and folders of the plan that the newest count does not have.

    Of systems that were not read, or of folders in what was not seen, nothing is said.
    """
    stated, plan, found = read_stated(office.folder), office.plan, list[Unmatched]()
    for system, reader in office.readers.items():
        logins = [one.login for one in reader.accounts]
        names = [one.name for one in reader.groups]
        for ident, person in plan.people.items():
            for login in person.accounts.get(system, ()):
                if login not in logins:
                    line = stated.line("people", ident, "accounts", system)
                    found.append(Unmatched("account", login, system, line, tuple(nearest(login, logins))))
        for name, group in plan.groups.items():
            called = group.names.get(system)
            if called is not None and called not in names:
                line = stated.line("groups", name, "names", system)
                found.append(Unmatched("group", called, system, line, tuple(nearest(called, names))))
        found += _strange_holders(stated, system, [*logins, *names, *(one.ident for one in reader.accounts)])
        for text, path in _addresses(stated):
            address = parse_address(text)
            if address.system != system:
                continue
            chain, missing = reader.find_path(address.path)
            # What lies in a folder that was not seen whole may be there.
            if missing is not None and chain[-1].state is SeenState.WHOLE:
                near = tuple(show_address(one) for one in nearest_folders(reader, address))
                found.append(Unmatched("folder", text, system, stated.line(*path), near))
    return sorted(found, key=lambda one: one.line)


def _addresses(stated: Stated) -> Iterator[tuple[str, tuple[str | int, ...]]]:
    """Yield every folder that a plan names, patterns aside, and the path of keys where it stands."""
    for part in (("folders",), ("limits", "folders"), ("sharing", "folders")):
        for key in stated.entries(*part):
            if "*" not in key:
                yield key, (*part, key)
    for key, one in stated.entries("folders").items():
        if one and one.get("same-as"):
            yield one["same-as"], ("folders", key, "same-as")
    for place, text in enumerate(stated.entries("sharing", "sensitive")):
        yield text, ("sharing", "sensitive", place)
    for place, one in enumerate(stated.value.get("barred") or ()):
        yield one["folder"], ("barred", place, "folder")
    for name, one in stated.entries("pools").items():
        for place, text in enumerate(one["holds"]):
            yield text, ("pools", name, "holds", place)


def _strange_holders(stated: Stated, system: str, known: Sequence[str]) -> Iterator[Unmatched]:
    """Yield the names in a system's own settings that no account or group there is called."""
    settings = stated.entries("systems").get(system) or {}
    named: list[tuple[tuple[str, ...], Iterable[str]]] = [(("service",), settings.get("service") or ())]
    named += [(("privileges", key), names or ()) for key, names in (settings.get("privileges") or {}).items()]
    for share, gates in (settings.get("share-gates") or {}).items():
        named += [(("share-gates", share, key), gates.get(key) or ()) for key in ("users", "writers")]
    for path, names in named:
        for name in names:
            if name not in known:
                line = stated.line("systems", system, *path)
                yield Unmatched(path[0], str(name), system, line, tuple(nearest(str(name), known)))
