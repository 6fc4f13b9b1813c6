"""The parts of office.yaml that speak of posts, read into the plan."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import replace
from datetime import date
from typing import Any

from neatledger.core.plan.plan import CLASSES, Person
from neatledger.core.plan.posts import Beyond, Devices, HeldPost, Post
from neatledger.core.posts.forms import faults_of_form
from neatledger.formats.nearest import nearest
from neatledger.office.addresses import parse_address
from neatledger.office.yamltext import Path as KeyPath

__all__ = ["PostReader"]

_FORM = "{first}, {last}, {first initial} or {last initial}"


class PostReader:
    """Makes posts, and who holds them, from values that fit the schema, and finds what a schema cannot."""

    def __init__(
        self,
        value: Mapping[str, Any],
        fault: Callable[[KeyPath, str, str], None],
        line: Callable[[KeyPath], int],
        day: Callable[[KeyPath, str | None], date | None],
        check_system: Callable[[KeyPath, str], None],
    ) -> None:
        self.value, self.fault, self.line, self.day, self.check_system = value, fault, line, day, check_system
        self.stated: Mapping[str, Any] = value.get("posts") or {}

    def posts(self) -> dict[str, Post]:
        """Return the posts by name."""
        return {name: self._post(name, one or {}) for name, one in self.stated.items()}

    def _post(self, name: str, one: Mapping[str, Any]) -> Post:
        here: KeyPath = ("posts", name)
        if name in (self.value.get("people") or {}) or name in CLASSES:
            self.fault(here, f"a post named as a person or a class of people, {name!r}", "another name")
        for place, group in enumerate(one.get("groups") or ()):
            self._known((*here, "groups", place), group, "groups", "a group of this plan")
        for system, form in (one.get("accounts") or {}).items():
            self.check_system((*here, "accounts", system), system)
            self._form((*here, "accounts", system), form)
        self._form((*here, "email"), one.get("email", ""))
        home = one.get("home", "")
        self._form((*here, "home"), home, more=("login",))
        if home:
            system, colon, path = home.partition(":")
            if not colon or not path.startswith("/"):
                self.fault((*here, "home"), repr(home), "an address, as in barn:/Homes/{login}")
            elif "{login}" in home and system not in (one.get("accounts") or {}):
                self.fault((*here, "home"), f"{{login}} without a login on {system}", f"accounts: {{{system}: …}}")
            else:
                self.check_system((*here, "home"), system)
        if one.get("band"):
            self._known((*here, "band"), one["band"], "bands", "a band of this plan")
        for place, who in enumerate(one.get("tell") or ()):
            self._known((*here, "tell", place), who, "people", "a person of this plan")
        for place, each in enumerate(one.get("entitlements") or ()):
            self._known((*here, "entitlements", place), each, "entitlements", "an entitlement of this plan")
        groups, tell, bought = (tuple(one.get(key) or ()) for key in ("groups", "tell", "entitlements"))
        line, devices = self.line(here), Devices(one.get("devices", "any"))
        accounts, email, band = one.get("accounts") or {}, one.get("email", ""), one.get("band", "")
        return Post(name, one.get("name", name), groups, accounts, email, home, band, tell, line, bought, devices)

    def _form(self, path: KeyPath, form: str, more: tuple[str, ...] = ()) -> None:
        for name in faults_of_form(form, more=more):
            self.fault(path, f"{name!r} in a form", f"{_FORM}{' or {login}' if more else ''}")

    def _known(self, path: KeyPath, name: str, part: str, expected: str) -> None:
        known = self.value.get(part) or {}
        if name not in known:
            found = nearest(name, known)
            self.fault(path, repr(name), f"{' or '.join(found)}? {expected}" if found else expected)

    def of_person(self, person: Person) -> Person:
        """Return a person of the plan with the posts that they hold, and what they have beyond these."""
        one = (self.value.get("people") or {}).get(person.id) or {}
        posts = tuple(self._held(person, place, each) for place, each in enumerate(one.get("posts") or ()))
        self._check_days(person, posts)
        beyond = tuple(self._beyond(person, place, each) for place, each in enumerate(one.get("beyond") or ()))
        return replace(person, posts=posts, beyond=beyond, **self._successors(person, one))

    def _successors(self, person: Person, one: Mapping[str, Any]) -> dict[str, Any]:
        """Return who takes over what somebody leaves; nobody does who leaves before, or at the same time."""
        found: dict[str, Any] = {"successor": one.get("successor", ""), "successors": {}}
        named: list[tuple[KeyPath, str]] = [(("successor",), one["successor"])] if "successor" in one else []
        for key, who in (one.get("successors") or {}).items():
            found["successors"][parse_address(key)] = who
            named.append((("successors", key), who))
        for path, who in named:
            here: KeyPath = ("people", person.id, *path)
            self._known(here, who, "people", "a person of this plan")
            their = ((self.value.get("people") or {}).get(who) or {}).get("end")
            if who == person.id:
                self.fault(here, f"{who} after themselves", "somebody else")
            elif their and person.end and str(their) <= person.end.isoformat():
                self.fault(here, f"{who}, who leaves on {their}", f"somebody who is here after {person.end}")
        return found

    def _held(self, person: Person, place: int, one: str | Mapping[str, Any]) -> HeldPost:
        here: KeyPath = ("people", person.id, "posts", place)
        words: Mapping[str, Any] = {"post": one} if isinstance(one, str) else one
        path = here if isinstance(one, str) else (*here, "post")
        self._known(path, words["post"], "posts", "a post of this plan")
        start, until = self.day((*here, "from"), words.get("from")), self.day((*here, "until"), words.get("until"))
        if start and until and until < start:
            self.fault((*here, "until"), f"a last day before the first ({start})", "a later day")
        elif person.end and start and start > person.end:
            self.fault((*here, "from"), f"a first day after the person's last ({person.end})", "an earlier day")
        elif person.start and until and until < person.start:
            self.fault((*here, "until"), f"a last day before the person's first ({person.start})", "a later day")
        return HeldPost(words["post"], start, until, words.get("because", ""), self.line(here))

    def _check_days(self, person: Person, posts: tuple[HeldPost, ...]) -> None:
        for place, one in enumerate(posts):
            for other in posts[:place]:
                starts, ends = (one.start or date.min, other.start or date.min), (one.until, other.until)
                overlaps = max(starts) <= min(end or date.max for end in ends)
                if one.post == other.post and overlaps:
                    self.fault(
                        ("people", person.id, "posts", place), f"{one.post!r} twice on the same days", "it once"
                    )

    def _beyond(self, person: Person, place: int, one: Mapping[str, Any]) -> Beyond:
        here: KeyPath = ("people", person.id, "beyond", place)
        if "group" in one:
            self._known((*here, "group"), one["group"], "groups", "a group of this plan")
        folder = None
        if "folder" in one:
            folder = parse_address(one["folder"])
            granted = {
                parse_address(key)
                for key, each in (self.value.get("folders") or {}).items()
                if person.id in ((each or {}).get("grants") or {})
            }
            if folder not in granted:
                expected = f"a folder where `folders` grants {person.id} something by name"
                self.fault((*here, "folder"), repr(one["folder"]), expected)
        until = self.day((*here, "until"), one.get("until"))
        return Beyond(one.get("group", ""), folder, until, one["because"], self.line(here))
