"""``reach [PERSON]``: what somebody, or everybody, can reach; two people side by side; who could harm most."""

from __future__ import annotations

import argparse

from neatledger.app import App
from neatledger.cli import is_folder
from neatledger.commands.ways import access, compare, most, one_person
from neatledger.commands.ways.levels import LEVELS
from neatledger.core.access.everyone import RowFilter
from neatledger.errors import UsageError

__all__ = ["EXTRA_COLUMNS", "add_arguments", "run"]

EXTRA_COLUMNS = ("since", "used")


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Declare the words of the call."""
    parser.add_argument(
        "words", nargs="*", metavar="PERSON|FOLDER", help="whose (all, if nobody is named); a folder: in it and below"
    )
    parser.add_argument("--level", choices=LEVELS, metavar="LEVEL", help=f"at least this level: {', '.join(LEVELS)}")
    parser.add_argument("--compare", metavar="PERSON", help="beside what this person has, or this group")
    parser.add_argument(
        "--most", choices=most.RIGHTS, metavar="WHAT", help="whose account could change, delete or read the most"
    )


def run(args: argparse.Namespace, app: App) -> int:
    """Answer for one person, or for everybody."""
    if args.most:
        if args.words:
            raise UsageError("--most compares everybody", hint="leave the names out")
        return most.run(args, app)
    if args.compare:
        if len(args.words) != 1:
            raise UsageError("two people, or two groups, are compared", hint="reach PERSON --compare PERSON")
        args.one, args.other, args.then = args.words[0], args.compare, None
        return compare.run(args, app)
    people = [word for word in args.words if not is_folder(word)]
    folders = [word for word in args.words if is_folder(word)]
    if len(folders) > 1:
        raise UsageError(f"two folders: {' and '.join(folders)}", hint="name one")
    which = RowFilter.ALL if args.all and not args.level else RowFilter.EVERY if args.level else RowFilter.DIFFER
    is_of_one = len(people) == 1 and not folders and args.level in (None, "any")
    if is_of_one:
        return one_person.run(args, app, people[0], which)
    args.person, args.below = people or None, folders[0] if folders else None
    return access.run(args, app, which)
