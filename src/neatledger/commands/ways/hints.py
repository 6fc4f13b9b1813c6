"""What may be said beside an address of a system beforehand, and the passwords that were asked for."""

from __future__ import annotations

import argparse
from collections.abc import Mapping
from typing import Any

from neatledger.app import App
from neatledger.questions import connect

__all__ = ["add_hints", "hints_of", "keep_passwords"]


def add_hints(parser: argparse.ArgumentParser) -> None:
    """Declare what can be said beside an address; what is not said is asked on a terminal."""
    more = parser.add_argument_group("what may be said beforehand")
    more.add_argument("--user", help="who signs in; the password comes from environment, keyring or a prompt")
    more.add_argument("--ca", metavar="FILE", help="the authorities to trust (PEM)")
    more.add_argument("--base", help="below which entry of a directory the people lie")
    more.add_argument("--share", action="append", metavar="NAME", help="a share to read (default: all)")
    more.add_argument("--accounts", metavar="ADDRESS", help="the directory that keeps the accounts, or its export")
    more.add_argument("--column", action="append", metavar="TABLE.OURS=THEIRS", help="which column is which")
    more.add_argument("--passwd", metavar="FILE", help="a tree's accounts, as passwd(5)")
    more.add_argument("--group", metavar="FILE", help="a tree's groups, as group(5)")
    more.add_argument("--homes", action="append", metavar="PATH", help="a folder of homes in it")
    more.add_argument("--token", metavar="URL", help="where a bearer token is got with name and password")
    more.add_argument("--sign-in", choices=("simple", "ntlm", "kerberos"), help="how a directory is signed in to")
    more.add_argument("--ids", choices=("number", "sid"), help="which ids of a directory the access lists use")
    more.add_argument(
        "--allow", action="append", default=[], choices=("plain", "unsigned", "guest"),
        help="a directory without TLS, an SMB server that does not sign, a session as a guest",
    )  # fmt: skip


def hints_of(args: argparse.Namespace) -> dict[str, Any]:
    """Return what was said beside an address, by its name."""
    said = {name: getattr(args, name.replace("-", "_")) for name in _HINTS}
    allowed = {name: word in args.allow for word, name in _ALLOWED.items()}
    return {**said, **allowed, "shares": args.share}


_HINTS = ("user", "ca", "base", "accounts", "passwd", "group", "homes", "column", "token", "sign-in", "ids")
_ALLOWED = {"plain": "plain", "unsigned": "allow-unsigned", "guest": "allow-guest"}


def keep_passwords(app: App, name: str, found: connect.Proposal) -> None:
    """Offer to keep the passwords that were asked for, named by what they are for."""
    for service, user in _users(name, found.settings):
        if app.was_prompted(user) and app.agrees(f"Keep the password of {user} in the keyring, as '{service}'?"):
            kept = app.keep_password(service, user)
            app.say("Kept." if kept else "There is no keyring here that could keep it.")


def _users(name: str, settings: Mapping[str, Any]) -> list[tuple[str, str]]:
    found = []
    if settings.get("user"):
        found.append((f"neatledger {name}", str(settings["user"])))
    if (settings.get("web") or {}).get("user"):
        found.append((f"neatledger {name}", str(settings["web"]["user"])))
    accounts = settings.get("accounts")
    ldap = accounts.get("ldap") if isinstance(accounts, Mapping) else None
    if ldap and ldap.get("user"):
        found.append((f"neatledger {name} accounts", str(ldap["user"])))
    return found
