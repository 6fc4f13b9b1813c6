"""Guests: they are there because someone invited them, and for as long as they are needed."""

from __future__ import annotations

from collections.abc import Iterator

from neatledger.core.checks.contract import Check, Finding, OfficeFacts, Severity, SystemFacts
from neatledger.core.people.principals import Principal
from neatledger.core.plan.plan import Kind
from neatledger.core.plan.sharing import days_of
from neatledger.core.sharing.holders import is_account

__all__ = ["CHECKS"]


def _guests(office: OfficeFacts) -> Iterator[tuple[SystemFacts, Principal]]:
    """Yield the accounts that their system itself calls guests."""
    for facts in office.systems:
        for principal in facts.principals:
            if is_account(principal) and principal.account.admission.is_guest:
                yield facts, principal


def _place(facts: SystemFacts, principal: Principal) -> str:
    return f"{facts.name}:{principal.account.login}"


def _idle(office: OfficeFacts) -> Iterator[Finding]:
    idle = days_of(office.plan.settings, "guest-idle-days")
    for facts, principal in _guests(office):
        # Nobody can be idle who is not known to have come.
        last = principal.account.last_seen or principal.account.admission.accepted
        if principal.is_live and last:
            days = (office.today - last).days
            if days > idle:
                yield Finding("guest-idle", _place(facts, principal), f"not seen for {days} days, since {last}")


def _no_inviter(office: OfficeFacts) -> Iterator[Finding]:
    for facts, principal in _guests(office):
        if principal.is_live and not principal.account.admission.inviter:
            yield Finding(
                "guest-without-inviter", _place(facts, principal), f"nobody is said to have invited {principal.name}"
            )


def _waiting(office: OfficeFacts) -> Iterator[Finding]:
    most = days_of(office.plan.settings, "invitation-days")
    for facts, principal in _guests(office):
        admission = principal.account.admission
        if admission.invited and not admission.accepted and not principal.account.last_seen:
            days = (office.today - admission.invited).days
            if days > most:
                inviter = admission.inviter or "nobody"
                evidence = f"invited on {admission.invited} by {inviter}, and not accepted for {days} days"
                yield Finding("invitation-waiting", _place(facts, principal), evidence)


def _not_planned(office: OfficeFacts) -> Iterator[Finding]:
    for facts, principal in _guests(office):
        if not principal.is_planned:
            yield Finding("guest-not-planned", _place(facts, principal), f"the plan knows no guest {principal.name}")
        elif principal.kind is not Kind.GUEST:
            evidence = f"{principal.person} is {principal.kind.value} in the plan, and a guest there"
            yield Finding("guest-not-planned", _place(facts, principal), evidence)


CHECKS = (
    Check("guest-idle", Severity.MEDIUM, "the guest was not seen for a long time", "disable the account", _idle),
    Check(
        "guest-without-inviter",
        Severity.LOW,
        "nobody is said to have invited the guest",
        "find who answers for them, or disable the account",
        _no_inviter,
    ),
    Check(
        "invitation-waiting",
        Severity.LOW,
        "the invitation was never accepted",
        "ask, or withdraw it",
        _waiting,
    ),
    Check(
        "guest-not-planned",
        Severity.MEDIUM,
        "the guest is not in the plan",
        "write them into the plan as a guest, or disable the account",
        _not_planned,
    ),
)
