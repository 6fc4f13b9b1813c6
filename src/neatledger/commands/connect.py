"""``connect NAME ADDRESS``: what is there, as a piece of the plan; tried, shown, and written after a yes."""

from __future__ import annotations

import argparse
from collections.abc import Mapping
from typing import Any

from neatledger.app import App
from neatledger.errors import UnknownNameError, UsageError
from neatledger.faces.output import open_output
from neatledger.faces.show import show_report
from neatledger.office.edit import add_system, system_text
from neatledger.questions import connect
from neatledger.reports.connect import columns_report, told_lines, tried_report

__all__ = ["add_arguments", "add_hints", "hints_of", "keep_passwords", "run"]


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Declare the words of the call."""
    parser.add_argument("name", metavar="NAME", nargs="?", help="what the system is to be called, as barn")
    parser.add_argument(
        "address", metavar="ADDRESS", nargs="*",
        help="a folder, smb://…, ldaps://…, https://…, a directory's export (.ldif), or tables (.csv)",
    )  # fmt: skip
    parser.add_argument("--test", action="store_true", help="try the systems that the plan has, or NAME alone")
    parser.add_argument("--yes", action="store_true", help="write it without asking")
    add_hints(parser)


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
    more.add_argument("--ids", choices=("number", "sid"), help="which identifiers of a directory lists speak of")
    more.add_argument("--plain", action="store_true", help="a directory without TLS")
    more.add_argument("--allow-unsigned", action="store_true", help="an SMB server that does not sign")
    more.add_argument("--allow-guest", action="store_true", help="an SMB session as a guest")


def hints_of(args: argparse.Namespace) -> dict[str, Any]:
    """Return what was said beside an address, by its name."""
    said = {name: getattr(args, name.replace("-", "_")) for name in _HINTS}
    return {**said, "shares": args.share}


_HINTS = ("user", "ca", "base", "accounts", "passwd", "group", "homes", "column", "token", "sign-in", "ids", "plain",
          "allow-unsigned", "allow-guest")  # fmt: skip


def run(args: argparse.Namespace, app: App) -> int:
    """Propose a system, try it, and write it; or try what the plan has."""
    if args.test:
        return _test(args, app)
    if not args.name or not args.address:
        raise UsageError("connect wants a name and an address", hint="connect barn /srv/barn; connect --test")
    if args.name in app.office.plan.systems:
        raise UsageError(f"there is a system {args.name!r} already", hint="another name, or connect --test")
    said = hints_of(args)
    ask = (lambda _: "") if args.yes else app.ask
    with app.progress(f"asking {args.address[0]}"):
        found = connect.ask(app.office_dir, args.name, args.address, said, ask, app.credentials_for)
        tried = list(connect.try_settings(app.office_dir, args.name, found.settings, app.credentials_for))
    text = system_text(args.name, found.settings, found.comments)
    if app.output.form == "table":
        with open_output(app.output) as out:
            out.write(text + "\n")
    if found.columns:
        show_report(columns_report(found.columns), app.output)
        _part(app)
    for line in told_lines(found.notes, found.lacking):
        app.say(line)
    works = all(one.works for one in tried)
    show_report(tried_report(tried), app.output)
    if not args.yes and not app.agrees("Write this into office.yaml?"):
        app.say("Nothing was written; --yes writes it.")
        return 0 if works else 1
    add_system(app.office_dir, args.name, found.settings, found.comments)
    keep_passwords(app, args.name, found)
    app.say(f"{args.name} is in office.yaml now; neatledger gather {args.name} looks at it.")
    return 0 if works else 1


def _part(app: App) -> None:
    """Part two tables for people."""
    if app.output.form == "table" and app.output.target is None:
        app.output.stream.write("\n")


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


def _test(args: argparse.Namespace, app: App) -> int:
    planned = app.office.plan.systems
    if args.name and args.name not in planned:
        raise UnknownNameError(f"no system is named {args.name!r}", hint=f"there are: {', '.join(planned)}")
    some = {name: one.settings for name, one in planned.items() if args.name in (None, name)}
    with app.progress("trying"):
        tried = list(connect.try_all(app.office_dir, some, app.credentials_for))
    show_report(tried_report(tried), app.output)
    return 0 if all(one.works and not one.is_partly for one in tried) else 1
