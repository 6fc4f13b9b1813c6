"""Who is on a system, from wherever the plan says; and what its settings say of them."""

from __future__ import annotations

import dataclasses
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field

from neatledger.core.people.membership import holders_of
from neatledger.core.survey.accounts import Account, Group
from neatledger.core.survey.survey import Facts
from neatledger.core.tree.columns import NotSeen
from neatledger.sources.contract import SourceContext

__all__ = ["Found", "named_identifiers", "read_accounts", "settle"]


@dataclass(slots=True)
class Found:
    """Accounts and groups, and what of them could not be read."""

    accounts: list[Account] = field(default_factory=list)
    groups: list[Group] = field(default_factory=list)
    not_seen: list[NotSeen] = field(default_factory=list)


def read_accounts(context: SourceContext) -> Found:
    """Read the accounts that `accounts` in the settings names.

    ``machine`` (this machine's own), passwd files, CSV tables, an LDIF file, an LDAP directory or a SCIM
    service; raises `SourceError` where they cannot be read at all.
    """
    setting = context.settings.get("accounts", "machine")
    if isinstance(setting, Mapping) and "people" in setting:
        from neatledger.sources.csvaccounts import read_csv_accounts

        return Found(*read_csv_accounts(context, setting))
    if isinstance(setting, Mapping) and "scim" in setting:
        from neatledger.sources.scimaccounts import read_scim_accounts

        return Found(*read_scim_accounts(context, setting))
    if isinstance(setting, Mapping) and ("ldif" in setting or "ldap" in setting):
        from neatledger.sources.ldapaccounts import read_ldap_accounts

        return Found(*read_ldap_accounts(context, setting))
    from neatledger.sources.passwdaccounts import read_passwd_accounts

    return Found(*read_passwd_accounts(context))


def settle(facts: Facts, found: Found, context: SourceContext) -> None:
    """Apply the settings `service`, `privileges` and `enter` to what was found; names nobody has are noted."""
    settings = context.settings
    if "service" in settings:
        allowed = named_identifiers(settings["service"], "service", found)
        holders = holders_of(found.accounts, found.groups)
        found.accounts = [
            dataclasses.replace(account, may_use=account.may_use and bool(allowed & holder.idents))
            for account, holder in zip(found.accounts, holders, strict=True)
        ]
    privileges: dict[str, list[str]] = facts.get("privileges", {})
    for name, holders_named in (settings.get("privileges") or {}).items():
        for ident in sorted(named_identifiers(holders_named, f"privileges: {name}", found)):
            privileges.setdefault(ident, []).append(name)
    if privileges:
        facts["privileges"] = privileges
    if "enter" in settings:
        facts["asks_enter"] = int(settings["enter"] == "asked")


def named_identifiers(names: Iterable[str], where: str, found: Found) -> frozenset[str]:
    """Return the identifiers that logins and names of groups stand for; names that nobody has are noted."""
    by_name: dict[str, set[str]] = {}
    for one in found.accounts:
        by_name.setdefault(one.login, set()).add(one.ident)
        by_name.setdefault(one.ident, set()).add(one.ident)
    for group in found.groups:
        by_name.setdefault(group.name, set()).add(group.ident)
        by_name.setdefault(group.ident, set()).add(group.ident)
    idents: set[str] = set()
    untold = {name for group in found.groups if group.untold for name in (group.name, group.ident)}
    for name in names:
        if name in untold:
            message = f"{where} names {name!r}, of which not all members are told: only those who are count for it"
            found.not_seen.append(NotSeen(b"/", message))
        if name not in by_name:
            found.not_seen.append(NotSeen(b"/", f"{where} names {name!r}, which no account or group is called"))
        idents |= by_name.get(name, set())
    return frozenset(idents)
