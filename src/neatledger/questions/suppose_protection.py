"""Other rules of protection supposed: what would be lost, how far back it goes, what it takes, today and then."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace

from neatledger.core.plan.limits import On
from neatledger.core.plan.protection import SystemProtection
from neatledger.core.protection.standing import Standing, standing_of
from neatledger.core.protection.supposing import Supposed, as_it_is_said, supposed_rules
from neatledger.core.space.forecast import Outlook
from neatledger.core.space.limit_table import LimitStatus, pool_of
from neatledger.core.space.versions import KeptVersions
from neatledger.core.tree.address import Address
from neatledger.errors import UsageError
from neatledger.ledger.spread import spread_versions
from neatledger.questions import limits
from neatledger.questions.office import Office
from neatledger.questions.protect import found_on, now_of, places_of
from neatledger.questions.suppose_space import outlooks_of
from neatledger.questions.versions import kept_versions
from neatledger.questions.views import load_views, view_of

__all__ = ["Supposition", "Then", "VersionsThen", "ask"]


@dataclass(frozen=True, slots=True)
class Supposition:
    """What is supposed: other rules by system; and by system and kind of file ("": all others) versions kept."""

    rules: Mapping[str, Supposed] = field(default_factory=dict)
    versions: Mapping[str, Mapping[str, int]] = field(default_factory=dict)


@dataclass(frozen=True, slots=True)
class Then:
    """One place as it is and as it would be; `least` and `most` are bytes more that the copies would take.

    None where nobody says how much a run holds, or for how long it is kept. `outlook` are those of the pool in which
    the copies lie, today and with the most that they may take; None where none is known or nothing changes.
    """

    address: Address
    now: Standing
    then: Standing
    least: int | None
    most: int | None
    outlook: tuple[Outlook, Outlook] | None = None


@dataclass(frozen=True, slots=True)
class VersionsThen:
    """Old versions of one kind of file on a system, as many as are kept and as would be; `outlook` as of `Then`."""

    system: str
    kept: KeptVersions
    outlook: tuple[Outlook, Outlook] | None = None


def ask(
    office: Office, supposed: Supposition, below: Address | str | None = None
) -> tuple[list[Then], list[VersionsThen]]:
    """Return the places that other rules would protect otherwise, if all ran as it is said; and old versions.

    Raises `UsageError` and `UnknownNameError`.
    """
    below = office.below(below)
    places = [one for name, rules in supposed.rules.items() for one in _of_system(office, name, rules, below)]
    versions = [
        VersionsThen(system, one)
        for system, keep in supposed.versions.items()
        for one in _versions_of(office, system, keep)
    ]
    return _with_outlooks(office, supposed, places, versions)


def _of_system(office: Office, name: str, one: Supposed, below: Address | None) -> Iterator[Then]:
    now, protection = now_of(office), office.plan.protection
    rules = protection.systems.get(name, SystemProtection())
    known = {*(each.name for each in rules.snapshots), *(each.name for each in rules.backups)}
    unknown = sorted(one.names - known)
    if unknown:
        hint = f"{name} has {', '.join(sorted(known)) or 'no snapshots and no backups'}"
        raise UsageError(f"no rule of {name} is called {unknown[0]!r}", hint=hint)
    then = supposed_rules(rules, one)
    there, expected = found_on(office, name), as_it_is_said(then, now)
    places = dict.fromkeys(each for each in places_of(office, below) if each.system == name)
    places |= dict.fromkeys(Address(name, path) for some in one.into.values() for path in some)
    for address in sorted(places, key=lambda each: each.parts):
        wanted = protection.wanted_at(address)
        standing = standing_of(address.path, wanted, rules, there, now)
        other = standing_of(address.path, wanted, then, expected, now)
        yield Then(address, standing, other, *_more_bytes(office, address, one, then))


def _more_bytes(
    office: Office, address: Address, supposed: Supposed, then: SystemProtection
) -> tuple[int | None, int | None]:
    """Return how many bytes more the copies of what is taken in would be: one copy at least, one a run at most."""
    rules = [rule for rule in then.backups if address.path in supposed.into.get(rule.name, ())]
    if not rules:
        return 0, 0
    view = view_of(office, office.readers[address.system], with_principals=False)
    row = view.row_of(address.path)
    if row is None:
        return None, None
    size = view.all_at(row).bytes
    if any(rule.every is None or rule.keep is None for rule in rules):
        return size, None
    runs = sum(max(1, int(rule.keep / rule.every)) for rule in rules if rule.keep and rule.every)
    return size * len(rules), size * runs


def _versions_of(office: Office, system: str, keep: Mapping[str, int]) -> Iterator[KeptVersions]:
    view = view_of(office, office.reader(office.find_system(system)), with_principals=False)
    found = kept_versions(office, view, keep)
    kinds = {one.kind for one in found}
    strange = sorted(kind for kind in keep if kind and kind not in kinds)
    if strange:
        raise UsageError(f"{system} has no files of the kind {strange[0]!r}", hint="see: neatledger space --by kind")
    return (one for one in found if one.then_kept != one.kept)


def _with_outlooks(
    office: Office, supposed: Supposition, places: Sequence[Then], versions: Sequence[VersionsThen]
) -> tuple[list[Then], list[VersionsThen]]:
    """Return both with the outlooks of the pools that they would fill, all that is supposed taken together."""
    views = load_views(office)
    statuses = limits.ask(office, views)
    amounts = [0] * len(statuses)
    targets = {one.address: _targets(office, supposed, one.address) for one in places}
    for one in places:
        for place in targets[one.address]:
            for number in _holding(office, statuses, place):
                amounts[number] += one.most or 0
    for system in {one.system for one in versions}:
        mine = {one.kept.kind: -(one.kept.freed or (0, 0))[0] for one in versions if one.system == system}
        for number, amount in enumerate(spread_versions(views[system], office.plan, statuses, mine)):
            amounts[number] += amount
    pools = {after.status.target.name: (before, after) for before, after in outlooks_of(office, statuses, amounts)}

    def outlook(where: Sequence[Address]) -> tuple[Outlook, Outlook] | None:
        names = [pool.name for pool in (pool_of(office.plan, place) for place in where) if pool is not None]
        return next((pools[name] for name in names if name in pools), None)

    return (
        [replace(one, outlook=outlook(targets[one.address])) for one in places],
        [replace(one, outlook=outlook([Address(one.system, b"/")])) for one in versions],
    )


def _targets(office: Office, supposed: Supposition, address: Address) -> list[Address]:
    """Return where in systems of the plan the copies of a place would lie that is taken into a backup."""
    one = supposed.rules[address.system]
    rules = office.plan.protection.systems.get(address.system, SystemProtection())
    into = [name for name, paths in one.into.items() if address.path in paths]
    return [each.at for each in rules.backups if each.name in into and each.at is not None]


def _holding(office: Office, statuses: Sequence[LimitStatus], place: Address) -> Iterator[int]:
    """Yield the numbers of the limits that what lies in a place counts against: pools, and folders above it."""
    pool = pool_of(office.plan, place)
    for number, status in enumerate(statuses):
        if status.pool is not None:
            if pool is not None and status.target.name == pool.name:
                yield number
        elif status.target.on is On.FOLDER and place.is_within(status.target.address):
            yield number
