"""``review``: who answers for a folder says who keeps what there: packs made, answers taken, what is due."""

from __future__ import annotations

import argparse
from dataclasses import replace
from pathlib import Path

from neatledger.app import App
from neatledger.errors import NeatError, UsageError
from neatledger.faces.show import show_report
from neatledger.files import write_file
from neatledger.questions import review
from neatledger.reports.review import answer_report, made_report, standing_report

__all__ = ["add_arguments", "run"]

_LARGEST = 50_000_000


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Declare the words of the call."""
    parser.add_argument(
        "what",
        nargs="?",
        choices=("make", "take"),
        help="make packs of questions, or take an answer; alone: how it stands",
    )
    parser.add_argument("words", nargs="*", metavar="WHO|FILE", help="make: only for these people; take: the file")
    parser.add_argument("--page", action="store_true", help="make: also a page of each, to print and sign")
    parser.add_argument("--write", action="store_true", help="take: keep the decisions, and put grants into the plan")
    parser.add_argument("--steps", metavar="FILE", help="take: also write the steps there, for mend FILE")


def run(args: argparse.Namespace, app: App) -> int:
    """Show how it stands, make packs into the folder that -o names, or take an answer."""
    if args.what == "make":
        return _make(args, app)
    if args.what == "take":
        return _take(args, app)
    office = app.office
    found = review.status(office)
    without = [address for address in office.plan.guarded if not office.plan.decider_of(address)]
    packs, taken = office.ledger.reviews.read()
    show_report(standing_report(found, len(packs) + len(taken), without), app.output)
    return int(any("overdue" in one.state or one.state.endswith("due") for one in found))


def _make(args: argparse.Namespace, app: App) -> int:
    from neatledger.formats.reviewbook import write_pack

    if args.steps or args.write:
        raise UsageError("--steps and --write belong to review take")
    target = Path(app.options.output) if app.options.output else None
    if target is None or target.suffix:
        raise UsageError("into which folder?", hint="write: review make -o packs")
    office = app.office
    with app.progress("who can do what, and since when"):
        made = review.make(office, args.words, app.now)
    written = []
    try:
        target.mkdir(parents=True, exist_ok=True)
    except OSError as error:
        raise NeatError(f"cannot be made: {error.strerror}", str(target)) from None
    for one in made:
        path = target / f"review {one.pack.decider} {one.pack.made}.xlsx"
        decider = office.plan.people[one.pack.decider].name
        write_file(path, write_pack(one.pack, office.plan.office, office.count.when, decider))
        written.append((one, str(path)))
        if args.page:
            from neatledger.faces.page import render_page
            from neatledger.papers.pack import make_page

            page = render_page(make_page(one.pack, office.plan.office, office.count.when, decider))
            write_file(path.with_suffix(".html"), page.encode("utf-8", "backslashreplace"))
    show_report(made_report(written), replace(app.output, form="table", target=None))
    return 0


def _take(args: argparse.Namespace, app: App) -> int:
    from neatledger.commands.ways.written import keep_steps
    from neatledger.formats.reviewbook import cells_of, read_answer
    from neatledger.office.edit import write_grants

    if len(args.words) != 1:
        raise UsageError("which file?", hint="write: review take FILE")
    path = Path(args.words[0])
    try:
        if path.stat().st_size > _LARGEST:
            raise NeatError("too large for an answered pack", str(path))
        data = path.read_bytes()
    except OSError as error:
        raise NeatError(f"cannot be read: {error.strerror}", str(path)) from None
    office = app.office
    found = review.take(office, read_answer(data, str(path)), cells_of)
    keep_steps(app, args.steps, found.steps)
    if args.write and found.decisions:
        if found.outcome.edits:
            write_grants(office.folder, office.plan, found.outcome.edits)
        office.ledger.reviews.add_answer(found.pack, found.by, found.day, found.decisions, app.now)
    show_report(answer_report(found, office.names, is_written=args.write), app.output)
    return int(bool(found.changed))
