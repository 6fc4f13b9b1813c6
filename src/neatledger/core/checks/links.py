"""Links and hand-outs: what is outside of the plan's rules, what nobody needs any more, and what leads too far."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator
from datetime import timedelta

from neatledger.core.checks.contract import ANYONE, Check, Finding, OfficeFacts, ServiceFacts, Severity
from neatledger.core.lists.rights import Right
from neatledger.core.plan.limits import UNLIMITED
from neatledger.core.plan.sharing import days_of
from neatledger.core.sharing.judging import Offer
from neatledger.core.sharing.service import Service
from neatledger.core.survey.shared import HandOut, Link, Towards
from neatledger.core.tree.address import Address

__all__ = ["CHECKS"]


def _of_judge(name: str) -> Callable[[OfficeFacts], Iterable[Finding]]:
    """Return the rule of a check that the judging of offers has made already."""

    def find(office: OfficeFacts) -> Iterator[Finding]:
        for facts in office.services:
            for offer, breaches in facts.judged:
                evidence = "; ".join(breach.message for breach in breaches if breach.check == name)
                if evidence:
                    yield _of_offer(name, offer, facts.service, f"{_name(offer, facts.service)}: {evidence}")

    return find


def _name(offer: Offer, service: Service) -> str:
    return f"{offer.name} from {service.person_of(offer.maker) or 'nobody known'} to {offer.audience}"


def _of_offer(check: str, offer: Offer, service: Service, evidence: str) -> Finding:
    """Return a finding that one link or hand-out is the cause of, with whom it lets in."""
    item = offer.item
    # Whom a link lets in is nobody in particular, but for those whom it names.
    people = (item.receiver,) if isinstance(item, HandOut) else item.named or (ANYONE,)
    dead = offer.why_dead(service.day)
    # What has ended, or leads to nothing, lets nobody in.
    rights = Right.NONE if dead or check == "target-gone" else item.rights
    return Finding(check, offer.address, evidence, "", f"{offer.name} on {service.system}", people, rights)


def _live(office: OfficeFacts) -> Iterator[tuple[ServiceFacts, Offer]]:
    for facts in office.services:
        for offer, _ in facts.judged:
            if not offer.why_dead(facts.service.day):
                yield facts, offer


def _homes(office: OfficeFacts, service: Service) -> list[Address]:
    facts = office.system(service.system)
    return [] if facts is None else [Address(service.system, root) for root in facts.home_roots]


def _administrators_link(office: OfficeFacts) -> Iterator[Finding]:
    """Find links by which administrators keep open somebody else's home for longer than the plan allows."""
    most = days_of(office.plan.settings, "administrator-link-days")
    for facts, offer in _live(office):
        link, service = offer.item, facts.service
        number = service.numbers.get(offer.maker)
        system = office.system(service.system)
        if not isinstance(link, Link) or number is None or system is None:
            continue
        is_admin = bool(system.everyone.matrix.admins >> number & 1)
        inside = [home for home in _homes(office, service) if offer.address.is_within(home)]
        # A home of their own is theirs to share.
        # An administrator's own home is theirs like anybody's.
        is_own = offer.address.parts[-1:] == (offer.maker.encode(),)
        if is_admin and inside and not is_own and link.made:
            age = (office.today - link.made).days
            if age > most:
                evidence = f"{_name(offer, service)} is {age} days old; the plan allows {most}"
                yield _of_offer("administrator-link", offer, service, evidence)


def _homes_opened(office: OfficeFacts) -> Iterator[Finding]:
    """Find what opens all homes of a system at once: a link, a hand-out, or a team folder."""
    for facts, offer in _live(office):
        for home in _homes(office, facts.service):
            if home.is_within(offer.address):
                yield Finding(
                    "homes-opened", offer.address, f"{_name(offer, facts.service)} opens all homes in {home}"
                )
    for facts in office.services:
        for team in facts.service.shared.teams:
            # Only what lies over the share's homes now opens them.
            if team.over is None or team.why_closed(office.today):
                continue
            for system in office.systems:
                for home in (Address(system.name, root) for root in system.home_roots):
                    if home.is_within(team.over):
                        who = ", ".join(member.holder for member in team.members) or "nobody yet"
                        evidence = f"the team folder {team.name} lies over all homes in {home}; its members: {who}"
                        yield Finding("homes-opened", Address(facts.service.system, team.path), evidence)


def _handed_outside(office: OfficeFacts) -> Iterator[Finding]:
    for facts, offer in _live(office):
        if isinstance(offer.item, HandOut) and offer.item.towards is Towards.OUTSIDE:
            evidence = f"{_name(offer, facts.service)}, who has no account here: nobody can disable them"
            yield _of_offer("handed-outside", offer, facts.service, evidence)


def _soon_over(office: OfficeFacts) -> Iterator[Finding]:
    """Find links still in use that end within a week."""
    for facts, offer in _live(office):
        link = offer.item
        if isinstance(link, Link) and link.expires and link.last_used:
            week = timedelta(days=7)
            if link.expires - office.today <= week and office.today - link.last_used <= 5 * week:
                evidence = f"{_name(offer, facts.service)} ends on {link.expires}, and was used on {link.last_used}"
                yield _of_offer("ends-soon", offer, facts.service, evidence)


def _unlimited_size(office: OfficeFacts) -> Iterator[Finding]:
    for facts in office.services:
        for placed in facts.service.shared.rules:
            if placed.rule.largest is UNLIMITED:
                evidence = (
                    f"its rule for {placed.describe()} sets no largest file that may be shared: a 0 there is no limit"
                )
                yield Finding("no-largest-shared", facts.service.system, evidence)


_JUDGED = (
    ("anyone-may-change", Severity.HIGH, "anyone can change files", "let it give reading alone"),
    ("beyond-the-rules", Severity.HIGH, "it gives more than the rules allow", "take it back, or change the rule"),
    ("passed-on", Severity.HIGH, "it was passed on where that is not allowed", "take it back"),
    ("no-end", Severity.MEDIUM, "it never ends", "give it an end"),
    ("no-password", Severity.MEDIUM, "it has no password", "give it one, and tell it by another way"),
    ("not-encrypted", Severity.MEDIUM, "it opens without encryption", "let it open by https alone"),
    ("ended-but-on", Severity.MEDIUM, "it has ended, but is still switched on", "switch it off"),
    ("maker-gone", Severity.MEDIUM, "its maker has left", "take it back, or share it anew"),
    ("shared-though-barred", Severity.MEDIUM, "it shares a type that is not allowed", "take it out, or end the link"),
    ("chain-too-deep", Severity.MEDIUM, "it was passed on more often than allowed", "share it anew from the owner"),
    ("ends-too-late", Severity.LOW, "it lasts longer than allowed", "let it end sooner"),
    ("shared-too-large", Severity.LOW, "a file larger than allowed is shared", "take it out, or change the rule"),
    ("link-unused", Severity.LOW, "nobody uses it", "take it back"),
    ("target-gone", Severity.LOW, "it leads to nothing", "take it back"),
)  # fmt: skip

CHECKS = (
    *(Check(name, severity, summary, advice, _of_judge(name)) for name, severity, summary, advice in _JUDGED),
    Check(
        "administrator-link",
        Severity.MEDIUM,
        "an administrator's link into a home has grown old",
        "take it back",
        _administrators_link,
    ),
    Check(
        "homes-opened",
        Severity.HIGH,
        "it opens all homes",
        "take it back",
        _homes_opened,
    ),
    Check(
        "handed-outside",
        Severity.LOW,
        "it went to somebody outside who is no guest",
        "invite them as a guest, or take it back",
        _handed_outside,
    ),
    Check("ends-soon", Severity.ADVICE, "it is in use and ends within a week", "renew it in time", _soon_over),
    Check(
        "no-largest-shared",
        Severity.ADVICE,
        "no limit on the size of shared files",
        "set one, or say in the plan that there is none",
        _unlimited_size,
    ),
)
