"""``new``: write the first plan of an office."""

from __future__ import annotations

import argparse
import json
from collections.abc import Mapping
from pathlib import Path
from typing import Any

from neatledger.app import App
from neatledger.commands.connect import add_hints, hints_of, keep_passwords
from neatledger.errors import OfficeError, UsageError
from neatledger.files import write_file
from neatledger.office.first import SCHEMA_NAME, first_plan
from neatledger.office.read import PLAN_NAME, load_schema
from neatledger.questions import connect
from neatledger.reports.connect import told_lines

__all__ = ["add_arguments", "run"]


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Declare the words of the call."""
    parser.add_argument("dir", metavar="DIR", type=Path, help="the office's folder; made where it is missing")
    parser.add_argument(
        "system", metavar="NAME=ADDRESS", nargs="*",
        help="a system and where it is: a folder, smb://…, ldaps://…, https://…, tables (a.csv,b.csv)",
    )  # fmt: skip
    parser.add_argument(
        "--tree", action="append", default=[], metavar="NAME=PATH",
        help="a folder tree on this machine, and the name to call it by; may be given again",
    )  # fmt: skip
    parser.add_argument("--name", help="the office's name (else the folder's)")
    add_hints(parser)


def run(args: argparse.Namespace, app: App) -> int:
    """Write office.yaml; never over one that is there."""
    target: Path = args.dir / PLAN_NAME
    if target.exists():
        raise OfficeError("there is an office already", str(target), "connect adds to it; or name another folder")
    if bool(args.passwd) != bool(args.group):
        raise UsageError("--passwd and --group go together")
    said = hints_of(args)
    found: dict[str, connect.Proposal] = {}
    for text in (*args.tree, *args.system):
        name, equals, address = text.partition("=")
        if not equals or not address:
            raise UsageError(f"not a system: {text!r}", hint="write barn=/srv/barn or loft=smb://loft.office.example")
        if text in args.tree and not Path(address).is_dir():
            raise UsageError(f"there is no folder {address}", hint="--tree wants NAME=PATH of a folder that is there")
        if name in found:
            raise UsageError(f"two systems are called {name!r}", hint="give each a name of its own")
        found[name] = _proposal(app, args.dir, name, address, said)
    if not found:
        raise UsageError("no system is named", hint="new DIR barn=/srv/barn loft=smb://loft.office.example")
    text = first_plan(
        args.name or args.dir.resolve().name, {name: (one.settings, one.comments) for name, one in found.items()}
    )
    _write(args.dir, target, text)
    for name, one in found.items():
        for line in told_lines(one.notes, one.lacking):
            app.say(f"{name}: {line}")
        keep_passwords(app, name, one)
    app.say(f"Wrote {target}. Now look at the systems:  neatledger gather --office {args.dir}")
    return 0


def _proposal(app: App, office_dir: Path, name: str, address: str, said: Mapping[str, Any]) -> connect.Proposal:
    addresses = [address] if "://" in address else address.split(",")
    with app.progress(f"asking {address}"):
        return connect.ask(office_dir, name, addresses, said, app.ask, app.credentials_for)


def _write(office_dir: Path, target: Path, text: str) -> None:
    try:
        office_dir.mkdir(parents=True, exist_ok=True)
        with open(target, "x", encoding="utf-8") as out:
            out.write(text)
    except FileExistsError:
        raise OfficeError("there is an office already", str(target), "edit it, or name another folder") from None
    except OSError as error:
        raise OfficeError(f"cannot write the plan: {error.strerror}", str(target)) from None
    write_file(office_dir / SCHEMA_NAME, (json.dumps(load_schema(), indent=1) + "\n").encode())
