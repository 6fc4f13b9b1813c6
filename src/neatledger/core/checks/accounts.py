"""Accounts of services: roles, entitlements, second factor and passwords."""

from __future__ import annotations

from collections.abc import Iterator

from neatledger.core.checks.contract import Check, Finding, OfficeFacts, Severity, SystemFacts
from neatledger.core.lists.rights import Level
from neatledger.core.people.principals import Principal
from neatledger.core.plan.plan import Kind
from neatledger.core.plan.sharing import days_of
from neatledger.core.sharing.holders import is_account
from neatledger.core.survey.accounts import ADMINISTRATOR, TOP, USER
from neatledger.core.tree.address import Address

__all__ = ["CHECKS"]


def _principals(office: OfficeFacts) -> Iterator[tuple[SystemFacts, Principal, str]]:
    for facts in office.systems:
        for principal in facts.principals:
            if is_account(principal) and principal.is_live:
                yield facts, principal, f"{facts.name}:{principal.account.login}"


def _restricted_top(office: OfficeFacts) -> Iterator[Finding]:
    for _, principal, place in _principals(office):
        roles = principal.account.admission.roles
        if roles is not None and TOP in roles and not {USER, ADMINISTRATOR} <= roles:
            missing = " and ".join(sorted({USER, ADMINISTRATOR} - roles))
            evidence = (
                f"{principal.person} is not ticked as {missing}; a top administrator has every role all the same"
            )
            yield Finding("restricted-top", place, evidence)


def _second_factor(office: OfficeFacts) -> Iterator[Finding]:
    for _, principal, place in _principals(office):
        admission = principal.account.admission
        if (
            admission.roles is not None
            and admission.roles & {ADMINISTRATOR, TOP}
            and admission.second_factor is False
        ):
            yield Finding(
                "administrator-without-second-factor", place, f"{principal.person} signs in by a password alone"
            )


def _needs(office: OfficeFacts, facts: SystemFacts, principal: Principal) -> str:
    """Say what a person needs the system for, by the plan or as a member; "" for nothing."""
    folders = [
        str(folder.address)
        for folder in office.plan.folders
        if folder.address.system == facts.name
        and any(
            level is not Level.NONE and office.plan.is_holder(who, principal.person)
            for who, level in folder.grants.items()
        )
    ]
    for one in office.services:
        number = one.service.numbers.get(principal.account.login)
        if one.service.system == facts.name and number is not None:
            folders += [
                str(Address(facts.name, team.path))
                for team in one.service.shared.teams
                if any(one.service.memberships(team, number))
            ]
    return ", ".join(dict.fromkeys(folders[:3]))


def _needs_entitlement(office: OfficeFacts) -> Iterator[Finding]:
    for facts, principal, place in _principals(office):
        if principal.kind is Kind.SERVICE or not office.plan.is_here(principal.person):
            continue
        needs = ""
        if not principal.account.is_entitled:
            needs = _needs(office, facts, principal)
            evidence = "the account has no licence for the service"
        elif principal.is_planned:
            bought = [one for one in office.plan.space.entitlements if facts.name in one.systems]
            has = any(office.plan.is_entitled(one, principal.person) for one in bought)
            needs = _needs(office, facts, principal) if bought and not has else ""
            evidence = "the plan has bought no entitlement for them"
        if needs:
            yield Finding("needs-entitlement", place, f"{principal.person} is meant to use {needs}; {evidence}")


def _idle(office: OfficeFacts) -> Iterator[Finding]:
    """Find accounts of people who are here that nobody signs in with, where the system tells when others did."""
    most = days_of(office.plan.settings, "account-idle-days")
    for facts in office.systems:
        if not any(account.last_seen for account in facts.accounts):
            continue
        for principal in facts.principals:
            is_theirs = principal.is_planned and principal.kind is Kind.STAFF and principal.may_come_in
            if not is_theirs or not office.plan.is_here(principal.person):
                continue
            last = principal.account.last_seen
            if last is None:
                evidence = f"{principal.person} never signed in, as far as the system tells"
            elif (office.today - last).days > most:
                evidence = f"{principal.person} has not signed in for {(office.today - last).days} days, since {last}"
            else:
                continue
            yield Finding("account-idle", f"{facts.name}:{principal.account.login}", evidence)


def _reused(office: OfficeFacts) -> Iterator[Finding]:
    for former in office.former:
        facts = office.system(former.system)
        mine = [one for one in facts.principals if one.account.login == former.account.login] if facts else []
        if not mine or not mine[0].is_live:
            continue
        name = former.account.name or "another account"
        evidence = f"until {former.until} it was {name}'s ({former.account.ident}), and is {mine[0].name}'s now"
        yield Finding("login-reused", f"{former.system}:{former.account.login}", evidence)


def _unused_entitlement(office: OfficeFacts) -> Iterator[Finding]:
    most = days_of(office.plan.settings, "unused-entitlement-days")
    for _, principal, place in _principals(office):
        account = principal.account
        if not account.admission.entitlements or principal.kind is Kind.SERVICE:
            continue
        if not account.last_seen:
            evidence = "never signed in, as far as the service tells"
        else:
            days = (office.today - account.last_seen).days
            evidence = f"not seen for {days} days" if days > most else ""
        if not account.may_use:
            evidence = "the service is not switched on for the account"
        if evidence:
            names = ", ".join(account.admission.entitlements)
            yield Finding("entitled-but-unused", place, f"{principal.person} has {names}: {evidence}")


def _first_password(office: OfficeFacts) -> Iterator[Finding]:
    for _, principal, place in _principals(office):
        if principal.account.admission.is_first_password:
            yield Finding("password-never-changed", place, f"{principal.person} still has the first password")


def _old_password(office: OfficeFacts) -> Iterator[Finding]:
    most = days_of(office.plan.settings, "password-days")
    for _, principal, place in _principals(office):
        since = principal.account.admission.password_set
        days = 0 if since is None else (office.today - since).days
        if days > most:
            yield Finding("password-old", place, f"{principal.person}'s password is {days} days old, of {since}")


CHECKS = (
    Check(
        "restricted-top",
        Severity.MEDIUM,
        "an administrator of everything looks restricted",
        "take the top role away, or count them as an administrator of everything",
        _restricted_top,
    ),
    Check(
        "administrator-without-second-factor",
        Severity.HIGH,
        "the administrator has no second factor",
        "ask for one when they sign in",
        _second_factor,
    ),
    Check(
        "needs-entitlement",
        Severity.MEDIUM,
        "needs the service, but has no licence for it",
        "give them one, or take them out of what they are granted",
        _needs_entitlement,
    ),
    Check(
        "entitled-but-unused",
        Severity.LOW,
        "has a licence that is not used",
        "give it to someone who needs it, or let it go",
        _unused_entitlement,
    ),
    Check(
        "password-never-changed",
        Severity.MEDIUM,
        "still has the first password",
        "let it be changed at the next sign-in",
        _first_password,
    ),
    Check(
        "login-reused",
        Severity.LOW,
        "the login was somebody else's before",
        "see whether mail, links or lists that name it are still meant for whoever had it",
        _reused,
    ),
    Check(
        "account-idle",
        Severity.LOW,
        "the account is not used",
        "ask whether they need it, and close it if not",
        _idle,
    ),
    Check("password-old", Severity.ADVICE, "the password is old", "let it be changed", _old_password),
)
