"""``connect NAME ADDRESS``: what is there, as a piece of the plan; tried, shown, and written after a yes."""

from __future__ import annotations

import argparse

from neatledger.app import App
from neatledger.commands.ways.hints import add_hints, hints_of, keep_passwords
from neatledger.errors import UsageError
from neatledger.faces.output import open_output
from neatledger.faces.show import show_report
from neatledger.office.edit import add_system, system_text
from neatledger.questions import connect
from neatledger.reports.connect import columns_report, told_lines, tried_report

__all__ = ["add_arguments", "run"]


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Declare the words of the call."""
    parser.add_argument("name", metavar="NAME", nargs="?", help="what the system is to be called, as barn")
    parser.add_argument(
        "address", metavar="ADDRESS", nargs="*",
        help="a folder, smb://…, ldaps://…, https://…, a directory's export (.ldif), or tables (.csv); where there "
        "is no office yet: NAME=ADDRESS for each of its systems",
    )  # fmt: skip
    parser.add_argument("--title", metavar="NAME", help="a new office's name (else its folder's)")
    parser.add_argument("--test", action="store_true", help="try the systems that the plan has, or NAME alone")
    parser.add_argument("--yes", action="store_true", help="write it without asking")
    add_hints(parser)


def run(args: argparse.Namespace, app: App) -> int:
    """Propose a system, try it, and write it; or try what the plan has."""
    if args.test:
        return _test(args, app)
    if args.name and "=" in args.name:
        from neatledger.commands.ways import new

        return new.run(args, app)
    if not args.name or not args.address:
        raise UsageError("connect wants a name and an address", hint="connect barn /srv/barn; connect --test")
    if args.name in app.office.plan.systems and _is_counted(app, args.name):
        raise UsageError(
            f"{args.name} is in the plan and was counted already",
            hint="give another name, or change its lines in office.yaml; connect --test tries them",
        )
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
    app.say(f"{args.name} is in office.yaml now; neatledger count {args.name} looks at it.")
    return 0 if works else 1


def _is_counted(app: App, system: str) -> bool:
    return app.office.has_count and system in app.office.readers


def _part(app: App) -> None:
    """Part two tables for people."""
    if app.output.form == "table" and app.output.target is None:
        app.output.stream.write("\n")


def _test(args: argparse.Namespace, app: App) -> int:
    planned = app.office.plan.systems
    only = app.office.find_system(args.name) if args.name else None
    some = {name: system.settings for name, system in planned.items() if only in (None, name)}
    with app.progress("trying"):
        tried = list(connect.try_all(app.office_dir, some, app.credentials_for))
    show_report(tried_report(tried), app.output)
    return 0 if all(one.works and not one.is_partly for one in tried) else 1
