"""``new``: write the first plan of an office."""

from __future__ import annotations

import argparse
import json
from collections.abc import Mapping
from pathlib import Path
from typing import Any

from neatledger.app import App
from neatledger.commands.ways.hints import hints_of, keep_passwords
from neatledger.errors import OfficeError, UsageError
from neatledger.files import write_file
from neatledger.office.first import SCHEMA_NAME, first_plan
from neatledger.office.read import PLAN_NAME, load_schema
from neatledger.questions import connect
from neatledger.reports.connect import told_lines

__all__ = ["run"]


def run(args: argparse.Namespace, app: App) -> int:
    """Write office.yaml; never over one that is there."""
    folder = app.new_office_dir
    target = folder / PLAN_NAME
    if target.exists():
        hint = "connect NAME ADDRESS adds a system to it; --office DIR is another folder"
        raise OfficeError("there is an office already", str(target), hint)
    if bool(args.passwd) != bool(args.group):
        raise UsageError("--passwd and --group go together")
    said = hints_of(args)
    found: dict[str, connect.Proposal] = {}
    for text in (args.name, *args.address):
        name, equals, address = text.partition("=")
        if not equals or not address:
            raise UsageError(f"not a system: {text!r}", hint="write barn=/srv/barn or loft=smb://loft.office.example")
        if name in found:
            raise UsageError(f"two systems are called {name!r}", hint="give each a name of its own")
        found[name] = _proposal(app, folder, name, address, said)
    text = first_plan(
        args.title or folder.resolve().name, {name: (one.settings, one.comments) for name, one in found.items()}
    )
    _write(folder, target, text)
    for name, one in found.items():
        for line in told_lines(one.notes, one.lacking):
            app.say(f"{name}: {line}")
        keep_passwords(app, name, one)
    app.say(f"Wrote {target}. Now look at the systems:  neatledger count --office {folder}")
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
