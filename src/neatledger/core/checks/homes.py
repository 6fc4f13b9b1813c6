"""Homes and accounts that do not go together."""

from __future__ import annotations

from collections.abc import Iterator

from neatledger.core.checks.contract import Check, Finding, OfficeFacts, Severity
from neatledger.core.people.homes import accounts_without_home
from neatledger.core.plan.plan import Kind

__all__ = ["CHECKS"]


def _without_account(office: OfficeFacts) -> Iterator[Finding]:
    for facts in office.systems:
        for home in facts.homes:
            if not home.accounts:
                yield Finding("folder-without-account", home.address, f"no account goes with it; {home.because}")


def _without_folder(office: OfficeFacts) -> Iterator[Finding]:
    for facts in office.systems:
        if not facts.home_roots:
            continue
        people = {principal.account.login: principal for principal in facts.principals}
        for account in accounts_without_home(facts.homes, facts.accounts):
            principal = people[account.login]
            if principal.kind is Kind.STAFF and principal.is_live and account.ident != "0":
                where = ", ".join(path.decode(errors="replace") for path in facts.home_roots)
                evidence = f"{account.login} ({account.ident}) has no home in {where}"
                yield Finding("account-without-folder", f"{facts.name}:{account.login}", evidence)


def _ambiguous(office: OfficeFacts) -> Iterator[Finding]:
    for facts in office.systems:
        for home in facts.homes:
            if len(home.accounts) > 1:
                who = ", ".join(f"{account.login} ({account.ident})" for account in home.accounts)
                yield Finding("ambiguous-id", home.address, f"may belong to {who}: {home.because}")


CHECKS = (
    Check(
        "folder-without-account",
        Severity.MEDIUM,
        "a home that belongs to no account",
        "see whose it was; hand it over, keep it for its time, then remove it",
        _without_account,
    ),
    Check(
        "account-without-folder",
        Severity.LOW,
        "the account has no home",
        "make the home, or close the account if it is not used",
        _without_folder,
    ),
    Check(
        "ambiguous-id",
        Severity.MEDIUM,
        "the home may belong to more than one account",
        "rename the folder or the login so that only one fits",
        _ambiguous,
    ),
)
