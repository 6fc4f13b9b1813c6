"""The gates of team folders, hand-outs and links, each with the rights it lets through and the reasons."""

from __future__ import annotations

from collections.abc import Callable
from datetime import date

from neatledger.core.access.tree_gates import Gate
from neatledger.core.lists.contract import Effect, Reason
from neatledger.core.lists.doubt import WHO_IS_NOT_TOLD
from neatledger.core.lists.rights import EVERY_RIGHT, Right
from neatledger.core.plan.rules import SharingRule
from neatledger.core.sharing.service import Service
from neatledger.core.survey.shared import Audience, HandOut, Link, Reply, TeamFolder

__all__ = [
    "download_gate",
    "given_gates",
    "link_gates",
    "member_gate",
    "published_gate",
    "receiver_gate",
    "rules_gate",
    "running_gates",
]


def _gate(name: str, place: bytes, passes: Right, entry: str, because: str) -> Gate:
    """Return a gate with one reason, whose effect follows from what passes."""
    passes &= EVERY_RIGHT
    effect = Effect.GRANTS if passes else Effect.STOPS
    return Gate(name, place, passes, (Reason(effect, entry, passes, because),))


def _asks(name: str, passes: bool, entry: str, yes: str, no: str) -> Gate:
    return _gate(name, b"", EVERY_RIGHT if passes else Right.NONE, entry, yes if passes else no)


def running_gates(service: Service) -> list[Gate]:
    """Return the gate of the service's own switch, where it is off."""
    if service.shared.is_running:
        return []
    return [_gate("running", b"", Right.NONE, service.system, "the service is switched off for all")]


def published_gate(team: TeamFolder, day: date) -> Gate:
    """Return the gate of publication: whether the folder is switched on as a team folder, and until when."""
    closed = team.why_closed(day)
    if closed:
        return _gate("published", team.path, Right.NONE, team.name, closed)
    return Gate("published", team.path, EVERY_RIGHT, ())


def member_gate(service: Service, team: TeamFolder, number: int, *, perhaps: bool = False) -> Gate:
    """Return the gate of membership: what the roles of a principal and of its groups give.

    With `perhaps` as if it were in all groups of which nobody told whether it is.
    """
    rights, reasons = Right.NONE, []
    for member in service.perhaps_memberships(team, number) if perhaps else ():
        if member.reply is Reply.ACCEPTED:
            rights |= member.rights
            reasons.append(_untold_reason(member.holder))
    for member in service.memberships(team, number):
        who = f"{'group' if member.is_group else 'member'} {member.holder}"
        if member.reply is Reply.ACCEPTED:
            rights |= member.rights
            reasons.append(Reason(Effect.GRANTS, who, member.rights, f"a member of {team.name}"))
        else:
            message = "has not accepted yet" if member.reply is Reply.WAITING else "declined"
            reasons.append(Reason(Effect.STOPS, who, Right.NONE, f"invited to {team.name}, and {message}"))
    if not reasons:
        message = f"neither they nor a group of theirs is in {team.name}"
        reasons.append(Reason(Effect.STOPS, "no member", Right.NONE, message))
    return Gate("member", team.path, rights, tuple(reasons))


def _untold_reason(group: str) -> Reason:
    return Reason(Effect.LIMITS, f"group {group}", Right.NONE, WHO_IS_NOT_TOLD)


def receiver_gate(hand_out: HandOut, *, is_unsure: bool) -> Gate:
    """Return the gate of somebody who may be in the group that a hand-out is for, or not."""
    return Gate("receiver", b"", Right.NONE, (_untold_reason(hand_out.receiver),), is_unsure)


def download_gate(team: TeamFolder) -> Gate:
    """Return the gate of a team folder whose contents may be looked at and not taken away."""
    message = Reason(Effect.LIMITS, team.name, Right.READ, "no download: contents are shown, not given away")
    return Gate("download", team.path, EVERY_RIGHT & ~Right.READ, (message,))


def given_gates(service: Service, one: HandOut) -> list[Gate]:
    """Return what a hand-out says itself: the rights, until when, and whether it was accepted."""
    made = f"made on {one.made}" if one.made else "handed out"
    passed = f", passed on from {one.passed_from}" if one.passed_from else ""
    gates = [_gate("given", one.path, one.rights, f"hand-out {one.id}", made + passed)]
    if one.expires:
        is_live = service.day <= one.expires
        gates.append(
            _asks("until", is_live, one.expires.isoformat(), f"until {one.expires}", f"it ended on {one.expires}")
        )
    message = "not accepted yet" if one.reply is Reply.WAITING else "declined"
    gates.append(_asks("accepted", one.reply is Reply.ACCEPTED, one.receiver, "accepted", message))
    return gates


def rules_gate(service: Service, path: bytes, login: str, lets: Callable[[SharingRule], Right], because: str) -> Gate:
    """Return the gate of the service's rules for what someone shares of a folder; `because` says what they cut.

    `lets` gives what a rule lets through; named are the rules that let through less than none would.
    """
    cap = lets(service.rule_at(path, login))
    if cap & EVERY_RIGHT == EVERY_RIGHT:
        return Gate("rules", path, EVERY_RIGHT, ())
    without = lets(SharingRule())
    cutting = [one for one in service.rules_at(path, login) if lets(one.rule) & without != without]
    rules = ", ".join(dict.fromkeys(one.describe() for one in cutting))
    effect = Effect.LIMITS if cap & EVERY_RIGHT else Effect.STOPS
    reason = Reason(effect, f"rule of {rules}" if rules else "no download", cap & EVERY_RIGHT, because)
    return Gate("rules", path, cap & EVERY_RIGHT, (reason,))


def link_gates(service: Service, link: Link, path: bytes, number: int) -> list[Gate]:
    """Return the gates of a link for one of its audience: live, what it carries, and the rules."""
    name = f"link {link.fingerprint or link.id}"
    dead = link.why_dead(service.day)
    alive = f"live until {link.expires}" if link.expires else "live, without an end"
    alive += ", asks a password" if link.password else ""
    who = "those it names" if link.audience is Audience.NAMED else link.audience.value
    carries = _gate("carries", link.path, link.rights, name, f"for {who}, made by {link.maker or 'nobody known'}")
    rule = service.rule_at(path, link.maker)
    cap = service.link_cap(link, rule, number)
    message = "no download"
    if not cap & EVERY_RIGHT:
        message = "open links may give nothing" if link.audience is Audience.ANYONE else "guests may not be reached"
    elif link.audience is Audience.ANYONE and rule.open_links == "read":
        message = "open links give read at most"
    elif link.audience is Audience.ANYONE and rule.open_links == "write" and link.download:
        message = "open links give writing at most"
    gate = rules_gate(service, path, link.maker, lambda one: service.link_cap(link, one, number), message)
    return [_asks("live", not dead, name, alive, dead), carries, gate]
