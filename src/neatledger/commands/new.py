"""``new``: write the first plan of an office."""

from __future__ import annotations

import argparse
from pathlib import Path

from neatledger.app import App
from neatledger.errors import OfficeError, UsageError
from neatledger.office.first import first_plan
from neatledger.office.read import PLAN_NAME

__all__ = ["add_arguments", "run"]


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Declare the words of the call."""
    parser.add_argument("dir", metavar="DIR", type=Path, help="the office's folder; made where it is missing")
    parser.add_argument(
        "--tree", action="append", required=True, metavar="NAME=PATH",
        help="a folder tree on this machine, and the name to call it by; may be given again",
    )  # fmt: skip
    parser.add_argument("--passwd", metavar="FILE", help="its accounts, as passwd(5); else this machine's own")
    parser.add_argument("--group", metavar="FILE", help="its groups, as group(5)")
    parser.add_argument("--homes", action="append", default=[], metavar="PATH", help="a folder of home folders in it")
    parser.add_argument("--name", help="the office's name (else the folder's)")


def run(args: argparse.Namespace, app: App) -> int:
    """Write office.yaml; never over one that is there."""
    trees: dict[str, str] = {}
    for text in args.tree:
        name, equals, path = text.partition("=")
        if not equals or not path:
            raise UsageError(f"not a tree: {text!r}", hint="write --tree barn=/srv/barn")
        if not Path(path).is_dir():
            raise UsageError(f"there is no folder {path}", hint="--tree wants NAME=PATH of a folder that is there")
        trees[name] = str(Path(path).resolve())
    if bool(args.passwd) != bool(args.group):
        raise UsageError("--passwd and --group go together")
    accounts = None
    if args.passwd:
        accounts = {"passwd": str(Path(args.passwd).resolve()), "group": str(Path(args.group).resolve())}
    target: Path = args.dir / PLAN_NAME
    text = first_plan(args.name or args.dir.resolve().name, trees, accounts, args.homes)
    try:
        args.dir.mkdir(parents=True, exist_ok=True)
        with open(target, "x", encoding="utf-8") as out:
            out.write(text)
    except FileExistsError:
        raise OfficeError("there is an office already", str(target), "edit it, or name another folder") from None
    except OSError as error:
        raise OfficeError(f"cannot write the plan: {error.strerror}", str(target)) from None
    app.say(f"Wrote {target}. Now look at the systems:  neatledger gather --office {args.dir}")
    return 0
