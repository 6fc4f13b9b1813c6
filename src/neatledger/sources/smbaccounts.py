"""Who is who on an SMB server: its own accounts and groups, those of a directory, and names for what is left.

Members of a group come as identifiers. Each is tied to an account or a group, or to what is known everywhere; Unix
ids (S-1-22-1-N and S-1-22-2-N, as a server on a POSIX system has them) are tied by the passwd and group files that
the plan names. What cannot be tied is kept as a member not told: then nobody knows who else is in that group.
"""

from __future__ import annotations

import time
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field

from neatledger.core.lists.identifiers import NEVER_OVER_NETWORK, WELL_KNOWN
from neatledger.core.survey.accounts import ANYONE_ELSE, Account, Group
from neatledger.core.tree.columns import NotSeen
from neatledger.sources.accounts import Found, read_accounts
from neatledger.sources.contract import SourceContext
from neatledger.sources.smberrors import Refused
from neatledger.sources.smbnames import SidGroup, SidName, read_directory, read_names
from neatledger.sources.smbsteady import SteadySession

__all__ = ["read_smb_accounts"]

_UNIX_USER, _UNIX_GROUP = "S-1-22-1-", "S-1-22-2-"
ALL_UNTOLD = (ANYONE_ELSE,)
_SETTLING_SECONDS = 1.0


def read_smb_accounts(context: SourceContext, session: SteadySession, named: Iterable[str]) -> Found:
    """Return accounts and groups, and what of them is not told; `named` are the identifiers that lists name.

    Accounts come from where the plan says and from the server itself, whose own groups decide on it whoever keeps
    the accounts.
    """
    settings = context.settings.get("accounts")
    is_unix = isinstance(settings, Mapping) and "passwd" in settings
    elsewhere = read_accounts(context) if settings is not None else Found()
    tied = _Tied(list(named))
    if not is_unix:
        tied.add(elsewhere)
    tied.found.not_seen += elsewhere.not_seen if is_unix else []
    try:
        tied.ask(session)
    except Refused as error:
        tied.note(f"the server tells nothing of its users and groups: {error}")
    if is_unix:
        tied.tie_unix(elsewhere)
    try:
        tied.names = session.ask(lambda one: read_names(one, tied.unknown()))
        if session.losses and tied.unknown() - tied.names.keys():
            # A server that has just come back says for a while that it knows no name: so it is asked once more.
            time.sleep(_SETTLING_SECONDS)
            tied.names |= session.ask(lambda one: read_names(one, tied.unknown() - tied.names.keys()))
    except Refused as error:
        tied.note(f"the server tells no names of identifiers: {error}")
    return tied.settle()


@dataclass(slots=True)
class _Tied:
    """Accounts and groups on the way to being tied to each other."""

    named: list[str]
    found: Found = field(default_factory=Found)
    groups: list[SidGroup] = field(default_factory=list)
    names: dict[str, SidName] = field(default_factory=dict)
    _gone: list[str] = field(default_factory=list)

    def note(self, why: str) -> None:
        self.found.not_seen.append(NotSeen(b"/", why))

    def add(self, elsewhere: Found) -> None:
        """Take the accounts and groups of a directory or a listing."""
        self.found.accounts += elsewhere.accounts
        self.found.groups += elsewhere.groups
        self.found.not_seen += elsewhere.not_seen

    def ask(self, session: SteadySession) -> None:
        """Ask the server for its own accounts and groups; those of a directory are there already."""
        told = session.ask(read_directory)
        known = self._known()
        self.found.accounts += [account for account in told.accounts if account.ident not in known]
        self.groups += [group for group in told.groups if group.ident not in known]
        for why in told.refused:
            self.note(why)
        # What a domain lists is all that there is in it, unless it refused a part.
        self._gone = [] if told.refused else [f"{domain}-" for domain in told.domains]

    def tie_unix(self, unix: Found) -> None:
        """Tie Unix ids to the server's accounts by their logins; each becomes a group that they are in."""
        logins = {account.login.casefold(): account.login for account in self.found.accounts}
        by_gid: dict[str, list[str]] = {group.ident: [] for group in unix.groups}
        for account in unix.accounts:
            login = logins.get(account.login.casefold())
            if login is not None:
                self.found.groups.append(Group(f"Unix user {account.login}", _UNIX_USER + account.ident, (login,)))
                by_gid.setdefault(account.primary, []).append(login)
        for group in unix.groups:
            members = [logins[name.casefold()] for name in group.members if name.casefold() in logins]
            all_of = tuple(dict.fromkeys([*by_gid[group.ident], *members]))
            self.found.groups.append(Group(f"Unix group {group.name}", _UNIX_GROUP + group.ident, all_of))

    def _known(self) -> set[str]:
        return {
            *(account.ident for account in self.found.accounts),
            *(group.ident for group in self.found.groups),
            *(group.ident for group in self.groups),
        }

    def unknown(self) -> set[str]:
        """Return the identifiers that lists name or groups hold, and nobody has spoken of."""
        members = {member for group in self.groups for member in group.members or ()}
        # Entries of lists for what is known everywhere speak for themselves; the built-in groups have members.
        return {ident for ident in members.union(self.named) - self._known() if ident not in WELL_KNOWN}

    def settle(self) -> Found:
        """Make accounts and groups of what only has a name, and tie all members."""
        found, names = self.found, self.names
        logins = {account.login.casefold(): account.login for account in found.accounts}
        for ident, name in names.items():
            known = logins.get(name.name.casefold())
            if ident.startswith(_UNIX_USER) and known is not None:
                # The server's own account of that name is the Unix one of that name.
                found.groups.append(Group(f"Unix user {name.name}", ident, (known,)))
            elif name.is_user:
                login = name.name if known is None else f"{name.domain}\\{name.name}"
                found.accounts.append(Account(login, ident, ""))
            else:
                found.groups.append(Group(name.name, ident, untold=ALL_UNTOLD))
                self.note(f"lists or groups name the group {name.name} ({ident}); who is in it is not told")
        for ident in sorted(self.unknown() - names.keys()):
            if ident.startswith((_UNIX_USER, _UNIX_GROUP)) and ident in self.named:
                found.groups.append(Group(ident, ident, untold=ALL_UNTOLD))
        built_in = {ident for ident in self.named if ident in WELL_KNOWN and ident not in self._known()}
        for ident in sorted(built_in - NEVER_OVER_NETWORK):
            if ident.startswith("S-1-5-32-"):
                found.groups.append(Group(WELL_KNOWN[ident], ident, untold=ALL_UNTOLD))
                self.note(f"lists name the group {WELL_KNOWN[ident]} ({ident}); who is in it is not told")
        self._tie_members()
        return found

    def _tie_members(self) -> None:
        accounts = {account.ident: account.login for account in self.found.accounts}
        names = {group.ident: group.name for group in self.found.groups}
        groups = names.keys() | {group.ident for group in self.groups}
        for group in self.groups:
            members = group.members or ()
            # Local groups are looked up before an account gets its Unix number as one more identifier: whether such
            # a member counts depends on how somebody signs in.
            unix = [one for one in members if one in groups and one.startswith(_UNIX_USER)]
            inside = tuple(one for one in members if (one in groups and one not in unix) or self._is_open(one))
            logins = tuple(accounts[one] for one in members if one in accounts)
            settled = {*accounts, *inside, *unix}
            left = [one for one in members if one not in settled and not self._is_nobody(one)]
            untold = ALL_UNTOLD if group.members is None else tuple(left + unix)
            self.found.groups.append(Group(group.name, group.ident, logins, inside, untold))
            for one in unix:
                self.note(f"the group {group.name} holds {names.get(one, one)}: it may count there or not")
            if left:
                whom = ", ".join(left[:3]) + (f" and {len(left) - 3} more" if len(left) > 3 else "")
                self.note(f"the group {group.name} holds {whom}, of whom nothing is told: others may be in it")

    def _is_open(self, ident: str) -> bool:
        return ident in WELL_KNOWN and ident not in NEVER_OVER_NETWORK and ident != "S-1-5-15"

    def _is_nobody(self, ident: str) -> bool:
        """Tell whether an identifier stands for nobody who signs in here: a way of signing in, or one deleted."""
        return ident in NEVER_OVER_NETWORK or any(ident.startswith(domain) for domain in self._gone)
