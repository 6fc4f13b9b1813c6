"""``links``: all links and hand-outs, what they give and expose, and what breaks a rule."""

from __future__ import annotations

import argparse

from neatledger.app import App
from neatledger.cli import span_of
from neatledger.errors import UsageError
from neatledger.faces.show import show_report
from neatledger.questions import links
from neatledger.reports.links import links_report
from neatledger.reports.report import Pointer

__all__ = ["add_arguments", "run"]


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Declare the words of the call."""
    parser.add_argument(
        "folder", metavar="FOLDER|LINK", nargs="?", help="those that lead to this folder or into it; a link for --end"
    )
    parser.add_argument("--opens", metavar="FOLDER", help="those that open this folder: lead to it or above it")
    parser.add_argument("--made-by", metavar="PERSON", help="those that a person made")
    parser.add_argument("--given-to", metavar="WHO", help="those for a person, a group, anyone, guests or office")
    parser.add_argument(
        "--only", action="append", default=[], choices=_KINDS, metavar="KIND", help=f"only {', '.join(_KINDS)}"
    )
    parser.add_argument("--within", type=span_of, metavar="SPAN", help="those that end so soon: 7d, 2w")
    parser.add_argument("--end", action="store_true", help="end the LINK: who then loses what")
    parser.add_argument("--steps", metavar="FILE", help="--end: also write the step there, for mend FILE")


_KINDS = ("link", "hand-out", "live", "breaking")


def run(args: argparse.Namespace, app: App) -> int:
    """List them, system after system, those that break most rules first; or show what ending one does."""
    office = app.office
    if args.end:
        return _end(args, app)
    if args.steps:
        raise UsageError("--steps belongs to --end", hint="links LINK --end --steps FILE")
    sorts = [word for word in args.only if word in ("link", "hand-out")]
    wanted = links.OfferFilter(
        below=office.find_folder(args.folder) if args.folder else None,
        over=office.find_folder(args.opens) if args.opens else None,
        by=args.made_by,
        to=args.given_to,
        sort=sorts[0] if len(set(sorts)) == 1 else None,
        ends_within=args.within,
        is_live="live" in args.only,
        is_not_in_order="breaking" in args.only,
    )
    found = links.ask(office, wanted)
    show_report(links_report(found.judged, found.names, found.total, office.day, office.count.when), app.output)
    return 1 if any(one.breaches for one in found.judged) else 0


def _end(args: argparse.Namespace, app: App) -> int:
    from neatledger.commands.ways.written import keep_steps
    from neatledger.questions.mending_sharing import end_of
    from neatledger.questions.suppose_sharing import ask_take_back
    from neatledger.reports.takeback import takeback_report

    if not args.folder:
        raise UsageError("which link is to end?", hint="links link:ID --end; links lists them")
    offer = links.find_offer(app.office, args.folder)
    step = end_of(offer)
    if step is None:
        raise UsageError(f"{offer.name} on {offer.system} is off already", hint="links lists those that are live")
    report = takeback_report(ask_take_back(app.office, [offer.name]), app.office.count.when)
    keep_steps(app, args.steps, [step])
    if not args.steps:
        report.pointers = [Pointer("The step that ends it", f"links {offer.name} --end --steps end.json")]
    show_report(report, app.output)
    return 0
