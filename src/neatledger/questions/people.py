"""One person's sheet: everything about them on both sides."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass

from neatledger.core.people.homes import HomeMatch, match_homes
from neatledger.core.people.principals import Principal
from neatledger.core.plan.limits import On
from neatledger.core.plan.plan import Kind
from neatledger.core.sharing.lapses import Lapse
from neatledger.core.space.limit_table import LimitStatus, build_limit_table
from neatledger.core.survey.accounts import Group
from neatledger.core.survey.shared import Device
from neatledger.ledger.homes import find_homes
from neatledger.questions import lapses
from neatledger.questions.hanging import Hanging, hanging_on
from neatledger.questions.office import Office
from neatledger.questions.views import load_views

__all__ = ["PersonSheet", "SharedCounts", "accounts", "groups_of", "sheet"]


@dataclass(frozen=True, slots=True)
class SharedCounts:
    """What one person shares on one system: live links and hand-outs made, hand-outs received, devices."""

    system: str
    links: int
    handed_out: int
    was_handed: int
    devices: tuple[Device, ...]


@dataclass(frozen=True, slots=True)
class PersonSheet:
    """All that both sides say of one person; `homes` are those of everybody, `hanging` is what hangs on them."""

    person: str
    principals: tuple[Principal, ...]
    groups: Mapping[str, Sequence[Group]]
    homes: tuple[HomeMatch, ...]
    space: tuple[LimitStatus, ...]
    shared: tuple[SharedCounts, ...]
    hanging: tuple[Hanging, ...] = ()
    ends: tuple[Lapse, ...] = ()


def groups_of(office: Office) -> dict[str, Sequence[Group]]:
    """Return every system's groups."""
    return {system: reader.groups for system, reader in office.readers.items()}


def accounts(office: Office, name: str | None = None) -> list[tuple[Principal, LimitStatus | None]]:
    """Return every account of people, or one person's, with what they use there; raises `UnknownNameError`."""
    only = None if name is None else office.find_person(name).id
    space = {
        (status.target.system, status.target.name): status
        for view in load_views(office).values()
        for status in build_limit_table(office.plan, view)
        if status.target.on is On.PERSON
    }
    return [
        (one, space.get((system, one.person)))
        for system, some in office.principals.items()
        for one in some
        if (one.kind is not Kind.SERVICE or one.is_planned) and only in (None, one.person)
    ]


def sheet(office: Office, name: str) -> PersonSheet:
    """Return a person's sheet; raises `UnknownNameError`."""
    person = office.find_person(name)
    mine = tuple(principal for principals in person.principals.values() for principal in principals)
    shared = tuple(
        one for system, principals in person.principals.items() for one in _shared(office, system, principals)
    )
    space = tuple(
        status
        for view in load_views(office).values()
        for status in build_limit_table(office.plan, view)
        if status.target.on is On.PERSON and status.target.name == person.id
    )
    hanging = tuple(one for one in hanging_on(office, person.id) if one.what in _TOLD)
    accounts = {f"{one.system}:{one.account.login}" for one in mine}
    found = lapses.ask(office)
    ends = [
        one
        for one in (*found.coming, *found.later)
        if person.id in one.who.split(" to ")[0].split(", ") or one.place in accounts
    ]
    return PersonSheet(person.id, mine, groups_of(office), tuple(_homes(office)), space, shared, hanging, tuple(ends))


def _concerns(lapse: Lapse, person: str) -> bool:
    """Tell whether what lapses is somebody's: theirs, or made by them."""
    return person in lapse.who.partition(" to ")[0].split(", ")


_TOLD = ("owned", "administrator", "group", "team folder", "guest")
"""What of all that hangs on somebody their sheet has not told otherwise."""


def _homes(office: Office) -> Iterator[HomeMatch]:
    for system, reader in office.readers.items():
        if system in office.plan.systems:
            yield from match_homes(find_homes(reader, office.plan.systems[system]), reader.accounts)


def _shared(office: Office, system: str, principals: Sequence[Principal]) -> Iterator[SharedCounts]:
    service = office.systems.service(system)
    if service is None:
        return
    mine, day = {principal.account.login for principal in principals}, service.day
    live = [one for one in service.shared.hand_outs if one.is_live(day)]
    numbers = {service.numbers[login] for login in mine}
    yield SharedCounts(
        system,
        sum(one.maker in mine and not one.why_dead(day) for one in service.shared.links),
        sum(one.giver in mine for one in live),
        sum(bool(numbers & set(service.receivers(one))) for one in live),
        tuple(device for device in service.shared.devices if device.owner in mine),
    )
