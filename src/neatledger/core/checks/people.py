"""The people of the plan: their addresses, their dates and their accounts."""

from __future__ import annotations

import re
from collections.abc import Iterator

from neatledger.core.checks.contract import Check, Finding, OfficeFacts, Severity
from neatledger.core.lists.nesting import find_cycles
from neatledger.core.people.matching import propose
from neatledger.core.plan.plan import Kind

__all__ = ["CHECKS"]

# A dot-atom of RFC 5322 section 3.2.3, an @, and a domain of two labels or more (RFC 1035 section 2.3.1).
_ATOM = r"[A-Za-z0-9!#$%&'*+/=?^_`{|}~-]+"
_LABEL = r"[A-Za-z0-9](?:[A-Za-z0-9-]*[A-Za-z0-9])?"
_EMAIL = re.compile(rf"{_ATOM}(?:\.{_ATOM})*@{_LABEL}(?:\.{_LABEL})+")


def _no_email(office: OfficeFacts) -> Iterator[Finding]:
    for person in office.plan.people.values():
        if person.kind is not Kind.SERVICE and person.is_here(office.today) and not person.email:
            yield Finding("no-email", person.id, f"{person.name} has no e-mail address")
    for facts in office.systems:
        for principal in facts.principals:
            # A service that knows roles invites and warns by mail.
            is_invited = principal.account.admission.roles is not None and principal.kind is not Kind.SERVICE
            if is_invited and principal.is_live and not principal.account.email:
                evidence = f"the account of {principal.name or principal.person} has no e-mail address"
                yield Finding("no-email", f"{facts.name}:{principal.account.login}", evidence)


def _bad_email(office: OfficeFacts) -> Iterator[Finding]:
    for person in office.plan.people.values():
        if person.email and not _EMAIL.fullmatch(person.email):
            yield Finding("malformed-email", person.id, f"{person.email!r} is no e-mail address")


def _shared_email(office: OfficeFacts) -> Iterator[Finding]:
    of_address: dict[str, list[str]] = {}
    for person in office.plan.people.values():
        if person.email:
            of_address.setdefault(person.email.casefold(), []).append(person.id)
    for address, people in of_address.items():
        if len(people) > 1:
            yield Finding("shared-email", people[0], f"{' and '.join(people)} both have {address}")


def _left_but_open(office: OfficeFacts) -> Iterator[Finding]:
    for facts in office.systems:
        for principal in facts.principals:
            person = office.plan.people.get(principal.person)
            if person and person.end and person.end < office.today and principal.is_live:
                evidence = f"{person.name} left on {person.end}; the account {principal.account.login} is open"
                yield Finding("left-but-open", f"{facts.name}:{principal.account.login}", evidence)


def _planned_account_missing(office: OfficeFacts) -> Iterator[Finding]:
    found = {(facts.name, account.login) for facts in office.systems for account in facts.accounts}
    gathered = {facts.name for facts in office.systems}
    for person in office.plan.people.values():
        for system, logins in person.accounts.items():
            for login in logins:
                if system in gathered and (system, login) not in found and person.is_here(office.today):
                    yield Finding(
                        "account-missing", person.id, f"the plan gives {login} on {system}; it is not there"
                    )


def _group_rings(office: OfficeFacts) -> Iterator[Finding]:
    groups = office.plan.groups
    nested = {name: [m for m in group.members if m in groups] for name, group in groups.items()}
    for ring in find_cycles(nested):
        yield Finding("group-ring", ring[0], f"groups contain each other: {' in '.join((*ring, ring[0]))}")


def _apart(office: OfficeFacts) -> Iterator[Finding]:
    for one in propose(office.plan, {facts.name: facts.principals for facts in office.systems}):
        who = " or ".join(one.candidates)
        evidence = f"{one.account.name or one.account.login} may be {who}: {one.because}"
        yield Finding("account-apart", f"{one.system}:{one.account.login}", evidence)


def _too_many_administrators(office: OfficeFacts) -> Iterator[Finding]:
    most = office.plan.settings.get("most-administrators", 3)
    for facts in office.systems:
        admins = [
            principal
            for number, principal in enumerate(facts.principals)
            if facts.everyone.matrix.admins >> number & 1
        ]
        if len(admins) > most:
            who = ", ".join(principal.account.login for principal in admins)
            yield Finding("too-many-administrators", facts.name, f"{len(admins)} accounts open everything: {who}")


def _daily_administrator(office: OfficeFacts) -> Iterator[Finding]:
    """Find people whose only open account on a system is an administrator's."""
    for facts in office.systems:
        admins = facts.everyone.matrix.admins
        # Whoever has an everyday account beside it is no administrator in daily work.
        usual = {
            principal.person
            for number, principal in enumerate(facts.principals)
            if principal.is_live and not admins >> number & 1
        }
        for number, principal in enumerate(facts.principals):
            if principal.kind is Kind.SERVICE or not principal.is_planned or principal.person in usual:
                continue
            if admins >> number & 1 and principal.is_live:
                evidence = f"{principal.account.login} is all that {principal.person} has there, also for daily work"
                yield Finding("daily-administrator", f"{facts.name}:{principal.account.login}", evidence)


CHECKS = (
    Check("no-email", Severity.LOW, "no e-mail address", "write it in the plan", _no_email),
    Check("malformed-email", Severity.LOW, "the e-mail address is invalid", "correct it in the plan", _bad_email),
    Check(
        "shared-email",
        Severity.MEDIUM,
        "two people have the same e-mail address",
        "give each an address of their own: recovery and warnings go to both",
        _shared_email,
    ),
    Check(
        "left-but-open",
        Severity.HIGH,
        "has left, and can still sign in",
        "close the account",
        _left_but_open,
    ),
    Check(
        "account-missing",
        Severity.MEDIUM,
        "a planned account is not there",
        "make the account, or take it out of the plan",
        _planned_account_missing,
    ),
    Check(
        "too-many-administrators",
        Severity.MEDIUM,
        "more administrators than planned",
        "close those that are not needed, or say in the plan's settings how many may be",
        _too_many_administrators,
    ),
    Check(
        "daily-administrator",
        Severity.LOW,
        "their only account here is an administrator's",
        "make an account of their own for daily work, and keep the other for administering",
        _daily_administrator,
    ),
    Check(
        "account-apart",
        Severity.LOW,
        "the account belongs to nobody in the plan, and may be somebody's",
        "say in the plan whose it is; people --match shows all, and writes the clear ones",
        _apart,
    ),
    Check("group-ring", Severity.LOW, "groups contain each other", "take one out of the other", _group_rings),
)
