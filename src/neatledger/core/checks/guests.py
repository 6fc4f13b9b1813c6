"""Guests: they are there because someone invited them, and for as long as they are needed."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import date

from neatledger.core.checks.contract import Check, Finding, Office, Severity, SystemFacts
from neatledger.core.people.principals import Seat
from neatledger.core.plan.plan import Kind
from neatledger.core.plan.sharing import days_of
from neatledger.core.sharing.holders import is_account

__all__ = ["CHECKS"]


def _guests(office: Office) -> Iterator[tuple[SystemFacts, Seat]]:
    """Yield the accounts that their system itself calls guests."""
    for facts in office.systems:
        for seat in facts.seats:
            if is_account(seat) and seat.account.admission.is_guest:
                yield facts, seat


def _place(facts: SystemFacts, seat: Seat) -> str:
    return f"{facts.name}:{seat.account.login}"


def _idle(office: Office) -> Iterator[Finding]:
    idle = days_of(office.plan.settings, "guest-idle-days")
    for facts, seat in _guests(office):
        last = seat.account.last_seen or seat.account.admission.accepted
        if seat.is_open and last:
            days = (office.today - date.fromisoformat(last[:10])).days
            if days > idle:
                yield Finding("guest-idle", _place(facts, seat), f"not seen for {days} days, since {last[:10]}")


def _no_inviter(office: Office) -> Iterator[Finding]:
    for facts, seat in _guests(office):
        if seat.is_open and not seat.account.admission.inviter:
            yield Finding("guest-without-inviter", _place(facts, seat), f"nobody is said to have invited {seat.name}")


def _waiting(office: Office) -> Iterator[Finding]:
    most = days_of(office.plan.settings, "invitation-days")
    for facts, seat in _guests(office):
        told = seat.account.admission
        if told.invited and not told.accepted and not seat.account.last_seen:
            days = (office.today - date.fromisoformat(told.invited)).days
            if days > most:
                evidence = (
                    f"invited on {told.invited} by {told.inviter or 'nobody'}, and not accepted for {days} days"
                )
                yield Finding("invitation-waiting", _place(facts, seat), evidence)


def _not_planned(office: Office) -> Iterator[Finding]:
    for facts, seat in _guests(office):
        if not seat.is_planned:
            yield Finding("guest-not-planned", _place(facts, seat), f"the plan knows no guest {seat.name}")
        elif seat.kind is not Kind.GUEST:
            told = f"{seat.person} is {seat.kind.value} in the plan, and a guest there"
            yield Finding("guest-not-planned", _place(facts, seat), told)


CHECKS = (
    Check("guest-idle", Severity.MEDIUM, "a guest who has not been seen for long", "disable the account", _idle),
    Check(
        "guest-without-inviter",
        Severity.LOW,
        "a guest whom nobody invited",
        "find who answers for them, or disable the account",
        _no_inviter,
    ),
    Check(
        "invitation-waiting",
        Severity.LOW,
        "an invitation that was not accepted for long",
        "ask, or withdraw it",
        _waiting,
    ),
    Check(
        "guest-not-planned",
        Severity.MEDIUM,
        "a guest whom the plan does not know",
        "write them into the plan as a guest, or disable the account",
        _not_planned,
    ),
)
