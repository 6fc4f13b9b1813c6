"""Which home folder belongs to which account; ambiguous ones are shown, never guessed.

A folder's name is compared with logins, then with identifiers (opaque names are often the account's
number), then with logins whatever their case. Ownership is evidence beside the name, not a match.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass

from neatledger.core.survey.accounts import Account
from neatledger.core.tree.address import Address

__all__ = ["HomeFolder", "HomeMatch", "accounts_without_home", "match_homes"]


@dataclass(frozen=True, slots=True)
class HomeFolder:
    """One folder among the homes, and its owner's identifier."""

    address: Address
    owner: str


@dataclass(frozen=True, slots=True)
class HomeMatch:
    """A home with the accounts it may belong to: one is a match, several are ambiguous."""

    address: Address
    accounts: tuple[Account, ...]
    because: str


def match_homes(homes: Iterable[HomeFolder], accounts: Sequence[Account]) -> list[HomeMatch]:
    """Match every home of one system with its accounts."""
    return [_match(home, accounts) for home in homes]


def _match(home: HomeFolder, accounts: Sequence[Account]) -> HomeMatch:
    name = home.address.parts[-1].decode("utf-8", "surrogateescape")
    # The exact login first: a number may be somebody's login, and then both may be meant.
    by_login = [account for account in accounts if account.login == name]
    by_ident = [account for account in accounts if account.ident == name and account.login != name]
    by_case = [account for account in accounts if account.login.casefold() == name.casefold()]
    if by_login and by_ident:
        return HomeMatch(home.address, (*by_login, *by_ident), "the login of one and the number of another")
    if by_login:
        return HomeMatch(home.address, tuple(by_login), "named as the login")
    if len(by_ident) == 1:
        return HomeMatch(home.address, tuple(by_ident), "named as the account's number")
    if by_ident:
        return HomeMatch(home.address, tuple(by_ident), "several accounts have this number")
    if len(by_case) == 1:
        return HomeMatch(home.address, tuple(by_case), "named as the login but for case")
    if by_case:
        return HomeMatch(home.address, tuple(by_case), "several logins differ from this in case only")
    owners = [account.login for account in accounts if account.ident == home.owner]
    message = f"owned by {'/'.join(owners)}" if owners else f"owned by {home.owner}, which no account has"
    return HomeMatch(home.address, (), message)


def accounts_without_home(matches: Iterable[HomeMatch], accounts: Iterable[Account]) -> list[Account]:
    """Return the accounts that no home matched, alone or among others."""
    matched = {account.login for match in matches for account in match.accounts}
    return [account for account in accounts if account.login not in matched]
