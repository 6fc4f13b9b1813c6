"""Accounts of a POSIX system: from passwd and group files, or from this machine's own database."""

from __future__ import annotations

import dataclasses
from collections.abc import Mapping
from pathlib import Path

from neatledger.core.survey.accounts import Account, Group
from neatledger.core.tree.columns import NotSeen
from neatledger.errors import Fault, SourceError
from neatledger.formats.passwd import parse_group, parse_passwd, parse_shadow
from neatledger.sources.contract import SourceContext

__all__ = ["read_passwd_accounts"]


def read_passwd_accounts(context: SourceContext) -> tuple[list[Account], list[Group], list[NotSeen]]:
    """Read the accounts that `accounts` in the settings names: ``machine``, or files.

    Returns accounts, groups, and the lines that could not be read, as items not seen.
    """
    setting = context.settings.get("accounts", "machine")
    if not isinstance(setting, Mapping):
        return (*_of_machine(context.system), [])
    accounts, faults = parse_passwd(*_text(context, setting["passwd"]))
    groups, more = parse_group(*_text(context, setting["group"]))
    faults += more
    if "shadow" in setting:
        states, more = parse_shadow(*_text(context, setting["shadow"]), context.today)
        faults += more
        accounts = [
            dataclasses.replace(account, state=states.get(account.login, account.state)) for account in accounts
        ]
    return accounts, groups, [_not_seen(fault) for fault in faults]


def _not_seen(fault: Fault) -> NotSeen:
    return NotSeen.of_source(fault.where, f"a line that is no account or group: {fault.found}")


def _text(context: SourceContext, name: str) -> tuple[str, str]:
    path = context.office_dir / name
    try:
        return Path(path).read_text(encoding="utf-8", errors="surrogateescape"), str(path)
    except OSError as error:
        raise SourceError(f"cannot read the accounts of {context.system}: {error.strerror}", str(path)) from None


def _of_machine(system: str) -> tuple[list[Account], list[Group]]:
    try:
        # Not there on every system that reads the others over the network.
        import grp
        import pwd
    except ModuleNotFoundError:
        hint = "name files, a directory or a listing under accounts: in the plan"
        raise SourceError("this machine keeps no accounts that could be read", system, hint) from None
    accounts = [
        Account(
            one.pw_name,
            str(one.pw_uid),
            str(one.pw_gid),
            one.pw_gecos.split(",")[0],
            "",
            one.pw_dir,
            one.pw_shell,
        )
        for one in pwd.getpwall()
    ]
    groups = [Group(one.gr_name, str(one.gr_gid), tuple(one.gr_mem)) for one in grp.getgrall()]
    return list({account.login: account for account in reversed(accounts)}.values())[::-1], groups
