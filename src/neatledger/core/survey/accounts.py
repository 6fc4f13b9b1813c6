"""Accounts and groups as a system holds them, and who is in which group."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, fields
from enum import Enum
from typing import Any

__all__ = [
    "ADMINISTRATOR",
    "TOP",
    "USER",
    "Account",
    "AccountState",
    "Admission",
    "Group",
]


class AccountState(Enum):
    """Whether the account can be used at all."""

    OPEN = "open"
    EXPIRED = "expired"
    DISABLED = "disabled"


USER, ADMINISTRATOR, TOP = "user", "administrator", "top"
"""Roles on a service; a top administrator has every role, whatever else is ticked."""


@dataclass(frozen=True, slots=True)
class Admission:
    """How an account came to a service, and as what; days are ISO 8601, "" (or None) where it does not tell.

    `roles` is None where the service knows no roles. `entitlements` are the licences that the account has there.
    `inviter` is the login of who invited a guest; `disable_on` and `remove_on` are the days set for that,
    and `ends` is the last day of the account itself.
    """

    roles: frozenset[str] | None = None
    entitlements: tuple[str, ...] = ()
    is_guest: bool = False
    inviter: str = ""
    invited: str = ""
    accepted: str = ""
    second_factor: bool | None = None
    password_set: str = ""
    disable_on: str = ""
    remove_on: str = ""
    ends: str = ""

    def to_facts(self) -> dict[str, Any]:
        """Return what the ledger keeps: only what is told."""
        found = {each.name: getattr(self, each.name) for each in fields(self)}
        found["roles"] = None if self.roles is None else sorted(self.roles)
        return {name: value for name, value in found.items() if value not in (None, "", (), False)} | (
            {} if self.second_factor is None else {"second_factor": self.second_factor}
        )

    @classmethod
    def of_facts(cls, facts: Mapping[str, Any]) -> Admission:
        """Return what the ledger kept."""
        found = dict(facts)
        if "roles" in found:
            found["roles"] = frozenset(found["roles"])
        if "entitlements" in found:
            found["entitlements"] = tuple(found["entitlements"])
        return cls(**found)


@dataclass(frozen=True, slots=True)
class Account:
    """One account: `ident` is the system's own identifier, `primary` that of its primary group.

    `may_use` tells whether the service is switched on for it, `is_entitled` whether it has the licence that the
    service asks for; `last_seen` is the day of its last sign-in (ISO 8601), empty where the system does not tell.
    """

    login: str
    ident: str
    primary: str
    name: str = ""
    email: str = ""
    home: str = ""
    shell: str = ""
    state: AccountState = AccountState.OPEN
    note: str = ""
    may_use: bool = True
    last_seen: str = ""
    is_entitled: bool = True
    admission: Admission = Admission()


@dataclass(frozen=True, slots=True)
class Group:
    """One group: `members` are logins, `nested` the names of groups inside it."""

    name: str
    ident: str
    members: tuple[str, ...] = ()
    nested: tuple[str, ...] = ()
