"""Accounts of services: roles, entitlements, second factor and passwords."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import date

from neatledger.core.checks.contract import Check, Finding, Office, Severity, SystemFacts
from neatledger.core.lists.rights import Level
from neatledger.core.people.principals import Seat
from neatledger.core.plan.plan import Kind
from neatledger.core.plan.sharing import days_of
from neatledger.core.sharing.holders import is_account
from neatledger.core.survey.accounts import ADMINISTRATOR, TOP, USER
from neatledger.core.tree.address import Address

__all__ = ["CHECKS"]


def _seats(office: Office) -> Iterator[tuple[SystemFacts, Seat, str]]:
    for facts in office.systems:
        for seat in facts.seats:
            if is_account(seat) and seat.is_open:
                yield facts, seat, f"{facts.name}:{seat.account.login}"


def _restricted_top(office: Office) -> Iterator[Finding]:
    for _, seat, place in _seats(office):
        roles = seat.account.admission.roles
        if roles is not None and TOP in roles and not {USER, ADMINISTRATOR} <= roles:
            missing = " and ".join(sorted({USER, ADMINISTRATOR} - roles))
            told = f"{seat.person} is not ticked as {missing}; a top administrator has every role all the same"
            yield Finding("restricted-top", place, told)


def _second_factor(office: Office) -> Iterator[Finding]:
    for _, seat, place in _seats(office):
        told = seat.account.admission
        if told.roles is not None and told.roles & {ADMINISTRATOR, TOP} and told.second_factor is False:
            yield Finding("administrator-without-second-factor", place, f"{seat.person} signs in by a password alone")


def _needs(office: Office, facts: SystemFacts, seat: Seat) -> str:
    """Say what a person needs the system for, by the plan or as a member; "" for nothing."""
    folders = [
        str(folder.address)
        for folder in office.plan.folders
        if folder.address.system == facts.name
        and any(
            level is not Level.NONE and office.plan.is_holder(who, seat.person)
            for who, level in folder.grants.items()
        )
    ]
    for one in office.services:
        if one.service.system == facts.name:
            number = one.service.numbers.get(seat.account.login)
            teams = one.service.shared.teams if number is not None else ()
            folders += [
                str(Address(facts.name, team.path))
                for team in teams
                if any(one.service.memberships(team, number or 0))
            ]
    return ", ".join(dict.fromkeys(folders[:3]))


def _needs_entitlement(office: Office) -> Iterator[Finding]:
    for facts, seat, place in _seats(office):
        if seat.kind is Kind.SERVICE or not office.plan.is_here(seat.person):
            continue
        needs = ""
        if not seat.account.is_entitled:
            needs = _needs(office, facts, seat)
            told = "the account has no licence for the service"
        elif seat.is_planned:
            bought = [one for one in office.plan.space.entitlements if facts.name in one.systems]
            has = any(office.plan.is_holder(holder, seat.person) for one in bought for holder in one.holders)
            needs = _needs(office, facts, seat) if bought and not has else ""
            told = "the plan has bought no entitlement for them"
        if needs:
            yield Finding("needs-entitlement", place, f"{seat.person} is meant to use {needs}; {told}")


def _unused_entitlement(office: Office) -> Iterator[Finding]:
    most = days_of(office.plan.settings, "unused-entitlement-days")
    for _, seat, place in _seats(office):
        account = seat.account
        if not account.admission.entitlements or seat.kind is Kind.SERVICE:
            continue
        if not account.last_seen:
            told = "never signed in, as far as the service tells"
        else:
            days = (office.today - date.fromisoformat(account.last_seen[:10])).days
            told = f"not seen for {days} days" if days > most else ""
        if not account.may_use:
            told = "the service is not switched on for the account"
        if told:
            names = ", ".join(account.admission.entitlements)
            yield Finding("entitled-but-unused", place, f"{seat.person} has {names}: {told}")


def _first_password(office: Office) -> Iterator[Finding]:
    for _, seat, place in _seats(office):
        if seat.account.admission.password_set == "never":
            yield Finding("password-never-changed", place, f"{seat.person} still has the first password")


def _old_password(office: Office) -> Iterator[Finding]:
    most = days_of(office.plan.settings, "password-days")
    for _, seat, place in _seats(office):
        told = seat.account.admission.password_set
        if told and told != "never":
            days = (office.today - date.fromisoformat(told)).days
            if days > most:
                yield Finding("password-old", place, f"{seat.person}'s password is {days} days old, of {told}")


CHECKS = (
    Check(
        "restricted-top",
        Severity.MEDIUM,
        "a top administrator who looks restricted",
        "take the top role away, or count them as an administrator of everything",
        _restricted_top,
    ),
    Check(
        "administrator-without-second-factor",
        Severity.HIGH,
        "an administrator without a second factor",
        "ask for one when they sign in",
        _second_factor,
    ),
    Check(
        "needs-entitlement",
        Severity.MEDIUM,
        "somebody needs a service and has no entitlement",
        "give them one, or take them out of what they are granted",
        _needs_entitlement,
    ),
    Check(
        "entitled-but-unused",
        Severity.LOW,
        "an entitlement that nobody uses",
        "give it to someone who needs it, or let it go",
        _unused_entitlement,
    ),
    Check(
        "password-never-changed",
        Severity.MEDIUM,
        "a first password that was never changed",
        "let it be changed at the next sign-in",
        _first_password,
    ),
    Check("password-old", Severity.ADVICE, "a password that is old", "let it be changed", _old_password),
)
