"""A word of the screen by an example from the reader's own office, where there is one."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from contextlib import suppress

from neatledger.core.lists.rights import Level
from neatledger.core.plan.limits import UNLIMITED, On, Settings
from neatledger.core.plan.plan import Kind, Person
from neatledger.core.space.limit_table import LimitStatus
from neatledger.core.space.sizes import show_limit, show_size
from neatledger.core.survey.shared import Shared
from neatledger.counting import count_of
from neatledger.errors import NeatError
from neatledger.formats.names import show_address
from neatledger.questions import lapses, limits
from neatledger.questions.office import Office
from neatledger.questions.views import load_views

__all__ = ["example_of"]


def example_of(office: Office, word: str) -> str:
    """Return an example of a word in a sentence; nothing where the office has none, or nobody has looked yet."""
    examples = _EXAMPLES.get(word)
    if examples is None:
        return ""
    with suppress(NeatError):
        return next(examples(office), "")
    return ""


def _plan(office: Office) -> Iterator[str]:
    parts = [
        (len(office.plan.people), "person"),
        (len(office.plan.groups), "group"),
        (len(office.plan.folders), "folder"),
    ]
    yield f"that of {office.plan.office} has {', '.join(count_of(*part) for part in parts)}"


def _count(office: Office) -> Iterator[str]:
    counts = office.counts_until()
    yield f"{count_of(len(counts), 'count')}, the newest of {office.count.when}"


def _person(office: Office) -> Iterator[str]:
    for person in office.plan.people.values():
        if len(person.accounts) > 1:
            yield f"{person.id} is {person.name}, with the accounts {_accounts(person)}"


def _accounts(person: Person) -> str:
    return ", ".join(f"{system}:{login}" for system, logins in person.accounts.items() for login in logins)


def _group(office: Office) -> Iterator[str]:
    for name in office.plan.groups:
        people = office.plan.members[name]
        if people:
            yield f"{name} has {count_of(len(people), 'person')}"


def _granted(*levels: Level) -> Callable[[Office], Iterator[str]]:
    def example(office: Office) -> Iterator[str]:
        for folder in office.plan.folders:
            for holder, level in folder.grants.items():
                if not levels or level in levels:
                    yield f"{level.value} for {holder} on {show_address(folder.address)}"

    return example


def _share(office: Office) -> Iterator[str]:
    for system, reader in office.readers.items():
        for share in reader.terms.shares or ():
            yield f"{share.name} on {system}"


def _shared(office: Office) -> Iterator[tuple[str, Shared]]:
    for system, reader in office.readers.items():
        if reader.shared is not None:
            yield system, reader.shared


def _team_folder(office: Office) -> Iterator[str]:
    return (f"{team.name} on {system}" for system, shared in _shared(office) for team in shared.teams)


def _link(office: Office) -> Iterator[str]:
    for system, shared in _shared(office):
        for link in shared.links:
            ends = f"until {link.expires}" if link.expires else "without an end"
            yield f"link:{link.id} of {link.maker} on {system}, {ends}"


def _hand_out(office: Office) -> Iterator[str]:
    for system, shared in _shared(office):
        yield from (f"hand-out:{given.id} of {given.giver} on {system}" for given in shared.hand_outs)


def _guest(office: Office) -> Iterator[str]:
    for person in office.plan.people.values():
        if person.kind is Kind.GUEST:
            yield f"{person.id} is {person.name}"


def _accepted(office: Office) -> Iterator[str]:
    for accepted in office.plan.accepted:
        until = f" until {accepted.until}" if accepted.until else ""
        yield f"{accepted.check} at {accepted.place}{until}: {accepted.reason}"


def _log(office: Office) -> Iterator[str]:
    for name, system in office.plan.systems.items():
        if system.settings.get("logs"):
            yield f"those of {name} are read; trail shows what is in them"


def _limits(is_so: Callable[[Settings], bool]) -> Callable[[Office], Iterator[str]]:
    def example(office: Office) -> Iterator[str]:
        for status in limits.ask(office, load_views(office)):
            if status.settings.limit is not UNLIMITED and is_so(status.settings):
                place = "disk" if status.target.on is On.POOL else status.target.on.value
                yield f"{_limit_words(status)} on {place} {status.target.key}"

    return example


def _limit_words(status: LimitStatus) -> str:
    return f"{show_limit(status.settings.limit)}, of which {show_size(status.amount)} is used,"


def _band(office: Office) -> Iterator[str]:
    for name, band in office.plan.space.bands.items():
        places = sum(limit.band == band for limit in office.plan.space.limits)
        limit = show_limit(Settings.of(band.stated).limit)
        yield f"{name} is {limit}, by {count_of(places, 'line')} of the plan"


def _disk(office: Office) -> Iterator[str]:
    for name, pool in office.plan.space.pools.items():
        yield f"{name} holds {', '.join(pool.holds)}"


def _licence(office: Office) -> Iterator[str]:
    for entitlement in office.plan.space.entitlements:
        yield f"{entitlement.name} is for {', '.join(entitlement.holders)} on {', '.join(entitlement.systems)}"


def _bin(office: Office) -> Iterator[str]:
    for name, rules in office.plan.space.rules.items():
        if rules.bin_days is UNLIMITED:
            yield f"{name} is to keep what was deleted forever"
        elif rules.bin_days:
            yield f"{name} is to keep what was deleted for {count_of(int(rules.bin_days), 'day')}"


def _not_allowed(office: Office) -> Iterator[str]:
    for barred in office.plan.space.barred:
        yield f"{', '.join(sorted(barred.kinds))} files in {show_address(barred.folder)}"


def _post(office: Office) -> Iterator[str]:
    for post in office.plan.posts.values():
        people = [
            person
            for person in office.plan.people
            if any(held.post == post.id for held in office.plan.posts_of(person))
        ]
        if people:
            yield f"{post.name}: {', '.join(people)}"


def _successor(office: Office) -> Iterator[str]:
    for person in office.plan.people.values():
        if person.successor:
            yield f"{person.successor} takes over from {person.id}"


def _guarded(office: Office) -> Iterator[str]:
    for address in office.plan.guarded:
        yield show_address(address)


def _expiring(office: Office) -> Iterator[str]:
    found = lapses.ask(office)
    for lapse in found.coming:
        who = f" of {lapse.who}" if lapse.who else ""
        yield f"{lapse.what}{who} ends on {lapse.day}"


def _unknown(office: Office) -> Iterator[str]:
    for survey in office.count.surveys:
        if survey.not_seen:
            unread = f"{count_of(survey.not_seen, 'thing')} on {survey.system} could not be read"
            yield f"{unread} (ledger --not-seen {survey.system})"


_EXAMPLES: dict[str, Callable[[Office], Iterator[str]]] = {
    "plan": _plan,
    "count": _count,
    "ledger": _count,
    "person": _person,
    "group": _group,
    "level": _granted(),
    "planned": _granted(),
    "view": _granted(Level.VIEW),
    "add-only": _granted(Level.ADD_ONLY),
    "share": _share,
    "team folder": _team_folder,
    "link": _link,
    "hand-out": _hand_out,
    "guest": _guest,
    "accepted": _accepted,
    "log": _log,
    "limit": _limits(lambda settings: True),
    "warns": _limits(lambda settings: not settings.enforced),
    "blocks": _limits(lambda settings: settings.enforced),
    "band": _band,
    "disk": _disk,
    "pool": _disk,
    "licence": _licence,
    "bin": _bin,
    "not allowed": _not_allowed,
    "post": _post,
    "successor": _successor,
    "guarded": _guarded,
    "expiring": _expiring,
    "unknown": _unknown,
}
"""Word → what finds examples of it, the first of which is told."""
