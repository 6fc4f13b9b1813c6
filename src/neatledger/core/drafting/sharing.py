"""Sharing rules as they are lived: the tightest that what is shared today keeps to, slips aside."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass, field
from datetime import date

from neatledger.core.drafting.folders import Question
from neatledger.core.lists.rights import Right
from neatledger.core.plan.rules import Guests, PlacedRule, RuleOn, SharingRule
from neatledger.core.survey.shared import Audience, HandOut, Link, Shared
from neatledger.core.tree.address import Address

__all__ = ["DraftRules", "draft_rules"]

_LEAST = 3
"""Of fewer things that are shared no rule can be told."""


@dataclass
class DraftRules:
    """The rules of one service: what holds of all of it, of folders and people, and questions."""

    whole: SharingRule = field(default_factory=SharingRule)
    others: list[PlacedRule] = field(default_factory=list)
    questions: list[Question] = field(default_factory=list)


def draft_rules(system: str, shared: Shared, day: date, is_guest: Callable[[str], bool | None]) -> DraftRules:
    """Return the rules of a service: those that it has, and tighter ones where everything shared keeps to them.

    What but few of many do not keep to is a rule all the same, and they are questions; so is what was shared with
    somebody of whom `is_guest` does not know (None), for a plan lists its guests.
    """
    links = [one for one in shared.links if not one.is_doubtful and not one.why_dead(day)]
    hand_outs = [one for one in shared.hand_outs if not one.is_untold and one.is_live(day)]
    found = DraftRules()
    for one in shared.rules:
        if one.on in (RuleOn.OFFICE, RuleOn.SYSTEM):
            found.whole = found.whole.tighter(one.rule)
        else:
            found.others.append(one)
    for lived in (_open_links(system, links, found), _ends(system, links, found), _passwords(system, links, found)):
        found.whole = found.whole.tighter(lived)
    found.whole = found.whole.tighter(_passing(hand_outs)).tighter(_guests(shared, links, hand_outs, is_guest))
    opened: dict[tuple[bytes, Audience], list[str]] = {}
    for link in links:
        if link.audience is not Audience.NAMED:
            opened.setdefault((link.path, link.audience), []).append(link.id)
    for (path, audience), some in opened.items():
        what = f"the link {some[0]} opens" if len(some) == 1 else f"the links {', '.join(some)} open"
        text = f"{what} it to {_WHO[audience]}: is that meant?"
        found.questions.append(Question(Address(system, path), text))
    for who, what in _named(links, hand_outs):
        if "@" in who and is_guest(who) is None:
            found.questions.append(
                Question(f"{system}: {what}", f"for {who}, who has no account there: is that meant?")
            )
    return found


_WHO = {
    Audience.ANYONE: "whoever has it",
    Audience.OFFICE: "everybody in the office",
    Audience.GUESTS: "every guest",
}


def _named(links: list[Link], hand_outs: list[HandOut]) -> Iterator[tuple[str, str]]:
    """Yield for whom by name something is, and what."""
    for one in links:
        for name in one.named:
            yield name, f"link {one.id}"
    for each in hand_outs:
        yield each.receiver, f"hand-out {each.id}"


def _is_most(some: int, all_of: int) -> bool:
    """Tell whether so many of some things do a thing that the others are rather slips."""
    return some >= _LEAST and 3 * some > 2 * all_of


def _ask(found: DraftRules, system: str, links: Iterable[Link], text: str) -> None:
    for one in links:
        found.questions.append(Question(f"{system}: link {one.id}", f"{text}: is that meant?"))


def _open_links(system: str, links: list[Link], found: DraftRules) -> SharingRule:
    loose = [one for one in links if one.audience is Audience.ANYONE]
    if not loose:
        return SharingRule(open_links="nothing") if len(links) >= _LEAST else SharingRule()
    writing = [one for one in loose if one.rights & (Right.ADD | Right.CHANGE | Right.DELETE)]
    if not writing:
        return SharingRule(open_links="read")
    if _is_most(len(loose) - len(writing), len(loose)):
        _ask(found, system, writing, "whoever has it may change things, where all other open links only show them")
        return SharingRule(open_links="read")
    return SharingRule()


def _ends(system: str, links: list[Link], found: DraftRules) -> SharingRule:
    lives = [(one.expires - one.made).days for one in links if one.expires and one.made]
    endless = [one for one in links if one.expires is None]
    if not _is_most(len(lives), len(lives) + len(endless)):
        return SharingRule()
    _ask(found, system, endless, f"it never ends, where {len(lives)} others do")
    return SharingRule(link_days=max(lives))


def _passwords(system: str, links: list[Link], found: DraftRules) -> SharingRule:
    loose = [one for one in links if one.audience is Audience.ANYONE]
    having = [one for one in loose if one.password]
    if not _is_most(len(having), len(loose)):
        return SharingRule()
    lacking = [one for one in loose if not one.password]
    _ask(found, system, lacking, f"it asks for no password, where {len(having)} other open links do")
    return SharingRule(password=True)


def _passing(hand_outs: list[HandOut]) -> SharingRule:
    passed = any(one.passed_from for one in hand_outs)
    return SharingRule(pass_on=False) if len(hand_outs) >= _LEAST and not passed else SharingRule()


def _guests(
    shared: Shared, links: list[Link], hand_outs: list[HandOut], is_guest: Callable[[str], bool | None]
) -> SharingRule:
    """Return who outside is reached: nobody, or those whom the plan then lists."""
    named = [one.receiver for one in hand_outs] + [name for link in links for name in link.named]
    named += [member.holder for team in shared.teams for member in team.members if not member.is_group]
    if any(is_guest(name) for name in named) or any(one.audience is Audience.GUESTS for one in links):
        return SharingRule(guests=Guests.LISTED)
    return SharingRule(guests=Guests.NONE) if len(named) >= _LEAST else SharingRule()
