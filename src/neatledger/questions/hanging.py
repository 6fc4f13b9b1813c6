"""What hangs on somebody over all systems: accounts, groups, homes, what they own and share, the plan's own words."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from typing import Any

import numpy as np

from neatledger.core.lists.rights import Right, level_of
from neatledger.core.people.homes import match_homes
from neatledger.core.people.principals import Principal
from neatledger.core.sharing.service import Service
from neatledger.core.space.sizes import show_size
from neatledger.core.survey.shared import Reply
from neatledger.core.tree.address import Address
from neatledger.core.tree.table import folder_paths
from neatledger.counting import count_of
from neatledger.ledger.homes import find_homes
from neatledger.office.read import read_stated
from neatledger.questions.office import Office

__all__ = ["Hanging", "hanging_on"]

_MOST_PLACES = 12
_DEPTH = 2
"""What somebody owns is shown by the folders so far below the root."""


@dataclass(frozen=True, slots=True)
class Hanging:
    """One thing that hangs on somebody: what it is, where, in words, and whether somebody must take it over."""

    what: str
    place: Address | str
    detail: str
    needs_successor: bool = False


def hanging_on(office: Office, person: str) -> list[Hanging]:
    """Return all that hangs on somebody of the plan, system by system, and then what the plan says of them."""
    finder = _Finder(office, person)
    found: list[Hanging] = []
    for system in office.readers:
        found += [*finder.accounts(system), *finder.groups(system), *finder.homes(system), *finder.owned(system)]
        service = office.systems.service(system)
        if service is not None:
            found += [*finder.shared(service), *finder.teams(service)]
    return [*found, *_said_of(office, person)]


class _Finder:
    def __init__(self, office: Office, person: str) -> None:
        self.office, self.person = office, person
        self._homes: set[bytes] = set()

    def _mine(self, system: str) -> list[Principal]:
        return [one for one in self.office.principals.get(system, ()) if one.person == self.person]

    def accounts(self, system: str) -> Iterator[Hanging]:
        """Yield their accounts, and where one of them is the last that opens everything."""
        everyone = self.office.systems.everyone(system, self.office.systems.holders[system], is_narrow=True)
        admins = [
            one
            for number, one in enumerate(everyone.matrix.principals)
            if everyone.matrix.admins >> number & 1 and one.is_live
        ]
        for one in self._mine(system):
            admission = one.account.admission
            days = (
                ("last seen", one.account.last_seen),
                ("the system closes it on", admission.disable_on or admission.ends),
                ("the system removes it on", admission.remove_on),
            )
            told = "".join(f", {word} {day}" for word, day in days if day)
            yield Hanging("account", f"{system}:{one.account.login}", f"{one.account.state.value}{told}")
        others = [one for one in admins if one.person != self.person]
        if admins and not others:
            yield Hanging("administrator", system, "they alone open everything there", True)

    def groups(self, system: str) -> Iterator[Hanging]:
        """Yield the groups that nobody else who can sign in is in."""
        mine = {ident for one in self._mine(system) for ident in one.holder.groups}
        others = {
            ident
            for one in self.office.principals.get(system, ())
            if one.person != self.person and one.is_live
            for ident in one.holder.groups | one.holder.maybe
        }
        own = {one.account.login for one in self._mine(system)}
        for group in self.office.readers[system].groups:
            if group.ident in mine and group.ident not in others and group.name not in own and not group.untold:
                yield Hanging("group", f"{system}:{group.name}", "nobody else is in it", True)

    def homes(self, system: str) -> Iterator[Hanging]:
        """Yield their homes."""
        reader, planned = self.office.readers[system], self.office.plan.systems.get(system)
        logins = {one.account.login for one in self._mine(system)}
        for match in match_homes(find_homes(reader, planned), reader.accounts) if planned and logins else ():
            if any(account.login in logins for account in match.accounts):
                row = reader.find_row(match.address.path)
                assert row is not None, "a home is a folder of the count"
                held = reader.totals(row)
                doubt = "" if len(match.accounts) == 1 else f", or another's: {match.because}"
                detail = f"{count_of(held.files, 'file')}, {show_size(held.bytes)}{doubt}"
                self._homes.add(match.address.path)
                yield Hanging("home", match.address, detail, True)

    def owned(self, system: str) -> Iterator[Hanging]:
        """Yield what they own, by folders near the root: how many folders, files and bytes; the most first."""
        reader = self.office.readers[system]
        idents = {one.account.ident for one in self._mine(system)} - {""}
        numbers = [number for number, ident in enumerate(reader.idents()) if ident in idents]
        if not numbers:
            return
        folders, classes = reader.table("folders"), reader.table("classes")
        path_of = folder_paths(folders)
        sums: dict[bytes, list[int]] = {}
        rows = np.flatnonzero(np.isin(folders["owner"], numbers)).tolist()
        for row in rows:
            sums.setdefault(_top(path_of(row)), [0, 0, 0])[0] += 1
        chosen = np.flatnonzero(np.isin(classes["owner"], numbers))
        for row, files, size in zip(
            *(classes[name][chosen].tolist() for name in ("folder", "files", "bytes")), strict=True
        ):
            one = sums.setdefault(_top(path_of(row)), [0, 0, 0])
            one[1] += files
            one[2] += size
        ranked = sorted(sums.items(), key=lambda one: (-one[1][2], one[0]))
        for path, (own, files, size) in ranked[:_MOST_PLACES]:
            if path in self._homes:
                continue
            detail = _counted(own, files, size)
            yield Hanging("owned", Address(system, path), detail, True)
        if rest := ranked[_MOST_PLACES:]:
            own, files, size = (sum(one[number] for _, one in rest) for number in range(3))
            detail = f"{_counted(own, files, size)} in {len(rest)} more places"
            yield Hanging("owned", system, detail, True)

    def shared(self, service: Service) -> Iterator[Hanging]:
        """Yield the links and hand-outs that they made, what was passed on from these, guests, and devices."""
        mine = {one.account.login for one in service.principals if one.person == self.person}
        system, day = service.system, self.office.day
        for link in service.shared.links:
            if link.maker in mine and not link.why_dead(day):
                ends = f", until {link.expires}" if link.expires else ", without an end"
                place = Address(system, link.path)
                yield Hanging("link", place, f"link:{link.id}, {level_of(link.rights).value}{ends}", True)
        passed: dict[str, int] = {}
        for given in service.shared.hand_outs:
            if given.passed_from and given.is_live(day):
                passed[given.passed_from] = passed.get(given.passed_from, 0) + 1
        for given in service.shared.hand_outs:
            place = Address(system, given.path)
            if given.giver in mine and given.is_live(day):
                on = f", passed on {count_of(passed[given.id], 'time')}" if passed.get(given.id) else ""
                detail = f"hand-out:{given.id} to {service.person_of(given.receiver)}{on}"
                yield Hanging("handed out", place, detail, True)
            elif given.receiver in mine and given.is_live(day):
                yield Hanging("was handed", place, f"hand-out:{given.id} by {service.person_of(given.giver)}")
        for one in service.principals:
            if one.account.admission.inviter in mine and one.is_live:
                yield Hanging("guest", f"{system}:{one.account.login}", "invited by them", True)
        for device in service.shared.devices:
            if device.owner in mine:
                held = "" if device.held_bytes is None else f", holds {show_size(device.held_bytes)}"
                yield Hanging("device", f"{system}: {device.name}", f"{device.state}{held}")

    def teams(self, service: Service) -> Iterator[Hanging]:
        """Yield the team folders that nobody else manages."""
        for team in service.shared.teams:
            managers = {
                service.principals[number].person
                for member in team.members
                if member.rights & Right.MANAGE and member.reply is Reply.ACCEPTED
                for number in service.member_numbers(member)
                if service.principals[number].is_live
            }
            if managers == {self.person}:
                yield Hanging("team folder", Address(service.system, team.path), "they alone manage it", True)


def _counted(folders: int, files: int, size: int) -> str:
    parts = [count_of(number, word) for number, word in ((folders, "folder"), (files, "file")) if number]
    return ", ".join([*parts, show_size(size)] if files else parts)


def _top(path: bytes) -> bytes:
    parts = path.split(b"/")
    return b"/".join(parts[: _DEPTH + 1]) or b"/"


def _said_of(office: Office, person: str) -> Iterator[Hanging]:
    """Yield every place of the plan that names somebody, but for their own entry."""
    stated = read_stated(office.folder)

    def walk(value: Any, path: tuple[str | int, ...]) -> Iterator[tuple[str | int, ...]]:
        if isinstance(value, Mapping):
            for key, each in value.items():
                if key == person or str(key).partition(":")[2] == person:
                    yield (*path, key)
                else:
                    yield from walk(each, (*path, key))
        elif isinstance(value, list | tuple):
            for place, each in enumerate(value):
                yield from walk(each, (*path, place))
        elif value == person:
            yield path

    for path in walk(stated.value, ()):
        if path[:2] != ("people", person):
            words = " / ".join(str(one) for one in path if not isinstance(one, int) and one != person)
            is_membership = path[0] == "groups" or "grants" in path
            yield Hanging("in the plan", f"line {stated.line(*path)}", words, not is_membership)
