"""Accounts and groups as a system holds them, and who is in which group."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, fields
from datetime import date
from enum import Enum
from typing import Any

__all__ = [
    "ADMINISTRATOR",
    "ANYONE_ELSE",
    "TOP",
    "USER",
    "Account",
    "AccountState",
    "Admission",
    "Group",
]


class AccountState(Enum):
    """Whether the account can be used at all; UNKNOWN where a system's word for it could not be read.

    LOCKED is closed for a while, after wrong passwords; of an account of MUST_CHANGE the password must be changed
    before anything else, and of EXPIRED_PASSWORD too.
    """

    OPEN = "open"
    EXPIRED = "expired"
    DISABLED = "disabled"
    LOCKED = "locked"
    MUST_CHANGE = "must change its password"
    EXPIRED_PASSWORD = "password expired"
    UNKNOWN = "unknown"


USER, ADMINISTRATOR, TOP = "user", "administrator", "top"
"""Roles on a service; a top administrator has every role, whatever else is ticked."""


_DAYS = frozenset({"invited", "accepted", "password_set", "disable_on", "remove_on", "ends"})


@dataclass(frozen=True, slots=True)
class Admission:
    """How an account came to a service, and as what; None is what it does not tell.

    `roles` is None where the service knows no roles. `entitlements` are the licences that the account has there.
    `inviter` is the login of who invited a guest; `disable_on` and `remove_on` are the days set for that,
    and `ends` is the last day of the account itself. `is_first_password` says that the first one was never changed.
    One that `lacks_switch` has nothing in its directory's entry that closes it.
    """

    roles: frozenset[str] | None = None
    entitlements: tuple[str, ...] = ()
    is_guest: bool = False
    inviter: str = ""
    invited: date | None = None
    accepted: date | None = None
    second_factor: bool | None = None
    password_set: date | None = None
    is_first_password: bool = False
    disable_on: date | None = None
    remove_on: date | None = None
    ends: date | None = None
    lacks_switch: bool = False

    def to_facts(self) -> dict[str, Any]:
        """Return what the ledger keeps: only what is told."""
        found = {each.name: getattr(self, each.name) for each in fields(self)}
        found["roles"] = None if self.roles is None else sorted(self.roles)
        kept = {name: value for name, value in found.items() if value not in (None, "", (), False)}
        if self.second_factor is not None:
            kept["second_factor"] = self.second_factor
        return {name: value.isoformat() if isinstance(value, date) else value for name, value in kept.items()}

    @classmethod
    def of_facts(cls, facts: Mapping[str, Any]) -> Admission:
        """Return what the ledger kept."""
        found = dict(facts)
        if "roles" in found:
            found["roles"] = frozenset(found["roles"])
        if "entitlements" in found:
            found["entitlements"] = tuple(found["entitlements"])
        if found.get("password_set") == "never":
            # So it was kept at first.
            found |= {"password_set": None, "is_first_password": True}
        for name in _DAYS & found.keys():
            found[name] = None if found[name] is None else date.fromisoformat(found[name])
        return cls(**found)


@dataclass(frozen=True, slots=True)
class Account:
    """One account: `ident` is the system's own identifier, `primary` that of its primary group.

    `may_use` tells whether the service is switched on for it, `is_entitled` whether it has the licence that the
    service asks for; `last_seen` is the day of its last sign-in, None where the system does not tell.
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
    last_seen: date | None = None
    is_entitled: bool = True
    admission: Admission = Admission()


ANYONE_ELSE = "*"
"""Stands among the untold members of a group for all that it may have beside those who were told."""


@dataclass(frozen=True, slots=True)
class Group:
    """One group: `members` are logins, `nested` the groups inside it, by identifier or name.

    What is known everywhere (S-1-5-11, all who sign in) may be inside it too. `untold` are members that could not be
    tied to an account or group, as the system has them, or `ANYONE_ELSE`: nobody knows who is in it besides those who
    are. Where one of them is a group, it is not told whether those in it count.
    """

    name: str
    ident: str
    members: tuple[str, ...] = ()
    nested: tuple[str, ...] = ()
    untold: tuple[str, ...] = ()
