"""What else changed between two counts: systems, accounts, groups, links, hand-outs, limits, and what is used."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass

from neatledger.core.lists.rights import Level, level_of, level_of_file, spell_rights
from neatledger.core.people.principals import principals_by_person
from neatledger.core.space.limit_table import LimitStatus, build_limit_table, join_pools
from neatledger.core.space.sizes import show_limit, show_size
from neatledger.core.survey.accounts import Account
from neatledger.core.survey.shared import HandOut, Link
from neatledger.core.tree.address import Address
from neatledger.ledger.reader import SurveyReader
from neatledger.ledger.store import CountInfo
from neatledger.questions.office import Office
from neatledger.questions.views import link_views, view_of

__all__ = ["OtherChange", "ask"]


@dataclass(frozen=True, slots=True)
class OtherChange:
    """One thing that is other than it was: what it is of, where, whom it concerns, and both states in words."""

    what: str
    place: Address | str
    who: str
    before: str
    after: str


def ask(office: Office, older: CountInfo, newer: CountInfo) -> list[OtherChange]:
    """Return what changed, system after system; of systems that both counts saw anew."""
    then, now = office.readers_of(older), office.readers_of(newer)
    read = {one.system: one.id for one in older.surveys}
    anew = [one.system for one in newer.surveys if read.get(one.system) != one.id]
    found = [OtherChange("system", name, "", "not counted", "counted") for name in anew if name not in then]
    found += [OtherChange("system", name, "", "counted", "not counted") for name in then if name not in now]
    people = {
        (system, one.account.login): person
        for system, some in office.principals_of(now).items()
        for person, mine in principals_by_person(some).items()
        for one in mine
    }
    for system in anew:
        if system in then:
            found += _accounts(system, then[system], now[system], people)
            found += _members(system, then[system], now[system], people)
            found += _shared(system, then[system], now[system])
    found += _space(office, older, newer, [system for system in anew if system in then])
    return found


_People = Mapping[tuple[str, str], str]


def _accounts(system: str, then: SurveyReader, now: SurveyReader, people: _People) -> Iterator[OtherChange]:
    before, after = ({one.login: one for one in each.accounts} for each in (then, now))
    missing = _missing(then, now)
    for login in sorted(before.keys() | after.keys()):
        was, now_is = (
            _state(each[login]) if login in each else word
            for each, word in zip((before, after), missing, strict=True)
        )
        if was != now_is:
            yield OtherChange("account", f"{system}:{login}", people.get((system, login), ""), was, now_is)


def _missing(then: SurveyReader, now: SurveyReader) -> tuple[str, str]:
    """Say for each of two counts of a system what it has of something that only the other one tells of."""
    sides = (then.unread, now.unread), (now.unread, then.unread)
    then_word, now_word = ("not told" if unread - other else "none" for unread, other in sides)
    return then_word, now_word


def _state(account: Account) -> str:
    said = [account.state.value]
    said += [] if account.may_use else ["no service"]
    said += [] if account.is_entitled else ["not entitled"]
    return ", ".join(said)


def _members(system: str, then: SurveyReader, now: SurveyReader, people: _People) -> Iterator[OtherChange]:
    before, after = (
        {(one.name, member) for one in each.groups for member in (*one.members, *_inside(each, one.nested))}
        for each in (then, now)
    )
    told = ({one.name for one in each.groups} for each in (then, now))
    sides = list(zip((before, after), told, _missing(then, now), strict=True))
    for name, member in sorted(before ^ after):
        was, now_is = (
            "in it" if (name, member) in members else "not in it" if name in names or word == "none" else word
            for members, names, word in sides
        )
        yield OtherChange("group", f"{system}:{name}", people.get((system, member), member), was, now_is)


def _inside(reader: SurveyReader, nested: tuple[str, ...]) -> list[str]:
    names = {one.ident: one.name for one in reader.groups}
    return [f"the group {names.get(ident, ident)}" for ident in nested]


def _shared(system: str, then: SurveyReader, now: SurveyReader) -> Iterator[OtherChange]:
    if then.shared is None or now.shared is None:
        return
    missing = _missing(then, now)
    for what, old, new in (
        ("link", then.shared.links, now.shared.links),
        ("hand-out", then.shared.hand_outs, now.shared.hand_outs),
    ):
        before, after = ({one.id: one for one in each} for each in (old, new))
        for ident in sorted(before.keys() | after.keys()):
            was, now_is = before.get(ident), after.get(ident)
            said = [_offer(one) if one else word for one, word in zip((was, now_is), missing, strict=True)]
            if said[0] != said[1]:
                one = now_is or was
                assert one is not None
                maker = one.maker if isinstance(one, Link) else one.giver
                yield OtherChange(what, Address(system, one.path), maker, *said)


def _offer(one: Link | HandOut) -> str:
    until = f"until {one.expires}" if one.expires else "no end"
    level = (level_of_file if one.is_file else level_of)(one.rights)
    said = [f"{one.id}: {spell_rights(one.rights) if level is Level.MIXED else level.value}", until]
    if isinstance(one, Link):
        said += ["password"] if one.password else []
        said += [] if one.is_on else ["switched off"]
    return ", ".join(said)


def _space(office: Office, older: CountInfo, newer: CountInfo, systems: list[str]) -> Iterator[OtherChange]:
    before, after = (_statuses(office, count) for count in (older, newer))
    for key in sorted(before.keys() & after.keys()):
        was, now = before[key], after[key]
        if now.target.system and now.target.system not in systems:
            continue
        limits = [_limit(one) for one in (was, now)]
        if limits[0] != limits[1]:
            yield OtherChange("limit", now.target.key, "", *limits)
    then, now_ = office.readers_of(older), office.readers_of(newer)
    for system in systems:
        used = [_used(office, readers[system]) for readers in (then, now_)]
        if used[0] != used[1]:
            yield OtherChange("space", f"{system}:/", "", *map(show_size, used))


def _limit(status: LimitStatus) -> str:
    found = status.found_settings
    return "not told" if found is None else show_limit(found.limit)


def _statuses(office: Office, count: CountInfo) -> dict[tuple[str, str], LimitStatus]:
    views = {
        name: view_of(office, reader, with_principals=False) for name, reader in office.readers_of(count).items()
    }
    link_views(views.values())
    found = join_pools(status for view in views.values() for status in build_limit_table(office.plan, view))
    return {(one.target.on.value, one.target.key): one for one in found}


def _used(office: Office, reader: SurveyReader) -> int:
    return view_of(office, reader, with_principals=False).all_at(0).occupied
