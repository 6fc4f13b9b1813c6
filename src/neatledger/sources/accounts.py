"""Who is on a system, from wherever the plan says; and what its settings say of them."""

from __future__ import annotations

import dataclasses
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field

from neatledger.core.lists.identifiers import WELL_KNOWN
from neatledger.core.people.membership import holders_of
from neatledger.core.survey.accounts import ANYONE_ELSE, Account, AccountState, Group
from neatledger.core.survey.survey import Facts
from neatledger.core.tree.columns import NotSeen
from neatledger.sources.contract import SourceContext

__all__ = ["Found", "named_identifiers", "read_accounts", "settle"]


@dataclass(slots=True)
class Found:
    """Accounts and groups, and what of them could not be read; `are_groups_told` where all groups were told."""

    accounts: list[Account] = field(default_factory=list)
    groups: list[Group] = field(default_factory=list)
    not_seen: list[NotSeen] = field(default_factory=list)
    are_groups_told: bool = True

    def add_untold_groups(self, names: Iterable[str]) -> None:
        """Add groups that something names where no groups were told: anybody may be in them."""
        known = {name for group in self.groups for name in (group.name, group.ident)}
        for name in () if self.are_groups_told else dict.fromkeys(names):
            if name not in known:
                self.groups.append(Group(name, name, untold=(ANYONE_ELSE,)))
                message = f"the group {name} is named, and no groups were told: anybody may be in it or not"
                self.not_seen.append(NotSeen(b"/", message))

    def note_untold(self, where: str) -> None:
        """Note the groups whose members were not all told."""
        for group in (one for one in self.groups if one.untold):
            named = [f"{WELL_KNOWN[one]} ({one})" if one in WELL_KNOWN else one for one in group.untold[:3]]
            whom = "members that were not told" if ANYONE_ELSE in group.untold else ", ".join(named)
            more = f" and {len(group.untold) - 3} more" if len(group.untold) > 3 else ""
            message = f"the group {group.name} holds {whom}{more}: who else is in it by that is not told"
            self.not_seen.append(NotSeen.of_source(where, message))


def read_accounts(context: SourceContext) -> Found:
    """Read the accounts that `accounts` in the settings names.

    ``machine`` (this machine's own), passwd files, CSV tables, an LDIF file, an LDAP directory or a SCIM
    service; raises `SourceError` where they cannot be read at all.
    """
    setting = context.settings.get("accounts", "machine")
    found = _read(context.for_accounts(), setting)
    if isinstance(setting, Mapping):
        where = setting.get("ldif") or setting.get("ldap", {}).get("url") or setting.get("scim")
        found.note_untold(str(where or setting.get("groups", "")))
    return found


def _read(context: SourceContext, setting: object) -> Found:
    if isinstance(setting, Mapping) and "people" in setting:
        from neatledger.sources.csvaccounts import read_csv_accounts

        return Found(*read_csv_accounts(context, setting), are_groups_told="groups" in setting)
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
        before = len(found.not_seen)
        allowed = named_identifiers(settings["service"], "service", found)
        # Of a name that nobody has, whom the system takes for it nobody knows.
        is_unknown = len(found.not_seen) > before
        holders = holders_of(found.accounts, found.groups)
        found.accounts = [
            _with_service(account, bool(allowed & holder.idents), is_unknown or bool(allowed & holder.maybe))
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


def _with_service(account: Account, is_allowed: bool, is_perhaps: bool) -> Account:
    if is_allowed or not is_perhaps:
        return dataclasses.replace(account, may_use=account.may_use and is_allowed)
    # Whether the service is on for them hangs on a group whose members were not all told.
    is_open = account.may_use and account.state is AccountState.OPEN
    return dataclasses.replace(account, state=AccountState.UNKNOWN if is_open else account.state)


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
            message = f"{where} names {name!r}, of which not all members are told: for all others it is unknown"
            found.not_seen.append(NotSeen(b"/", message))
        if name not in by_name:
            found.not_seen.append(NotSeen(b"/", f"{where} names {name!r}, which no account or group is called"))
        idents |= by_name.get(name, set())
    return frozenset(idents)
