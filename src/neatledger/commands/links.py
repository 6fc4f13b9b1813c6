"""``links``: all links and hand-outs, what they give and expose, and what is not in order."""

from __future__ import annotations

import argparse
from collections.abc import Sequence
from datetime import date, timedelta

from neatledger.app import App
from neatledger.commands.sharing import load_offers, put_to_rules, services_of
from neatledger.core.sharing.judging import Breach, Offer
from neatledger.faces.show import show_report
from neatledger.reports.links import links_report

__all__ = ["add_arguments", "run"]


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Declare the words of the call."""
    parser.add_argument("--below", metavar="FOLDER", help="those that lead to this folder or into it")
    parser.add_argument("--over", metavar="FOLDER", help="those that open this folder: that lead to it or above it")
    parser.add_argument("--by", metavar="PERSON", help="those that a person made")
    parser.add_argument("--to", metavar="WHOM", help="those for a person, a group, anyone, guests or office")
    parser.add_argument("--only", choices=("link", "hand-out"), help="links alone, or hand-outs alone")
    parser.add_argument("--lapse-within", type=int, metavar="DAYS", help="those that end within so many days")
    parser.add_argument("--live", action="store_true", help="those that open something today")
    parser.add_argument("--amiss", action="store_true", help="those that are not in order")


def run(args: argparse.Namespace, app: App) -> int:
    """List them, system after system, those with most amiss first."""
    judged: list[tuple[Offer, Sequence[Breach]]] = []
    names: dict[str, str] = {}
    total = 0
    for reader, service in services_of(app):
        offers = load_offers(reader, service)
        total += len(offers)
        for principal in service.principals:
            names[principal.account.login] = principal.person
        wanted = [offer for offer in offers if _is_wanted(args, app, offer, service.person_of(offer.maker), names)]
        judged += [
            (offer, breaches)
            for offer, breaches in put_to_rules(app.plan, app.services.day, service, wanted)
            if breaches or not args.amiss
        ]
    day = app.services.day.isoformat()
    machine = app.options.format != "table"
    report = links_report(judged, day, app.count.when, machine=machine, names=names, all_of=total)
    show_report(report, app)
    return 1 if any(breaches for _, breaches in judged) else 0


def _is_wanted(args: argparse.Namespace, app: App, offer: Offer, maker: str, names: dict[str, str]) -> bool:
    day = app.services.day
    if args.below and not offer.address.is_within(app.address(args.below)):
        return False
    if args.over and not app.address(args.over).is_within(offer.address):
        return False
    if args.by and args.by not in (maker, offer.maker):
        return False
    if args.to and args.to not in _receivers(offer, names):
        return False
    if args.only and (args.only == "link") != offer.is_link:
        return False
    if args.lapse_within is not None:
        ends = offer.item.expires
        if not ends or not day <= date.fromisoformat(ends) <= day + timedelta(days=args.lapse_within):
            return False
    return not (args.live and offer.why_dead(day.isoformat()))


def _receivers(offer: Offer, names: dict[str, str]) -> set[str]:
    """Return the words by which the receivers of something may be asked for."""
    words = {word.strip() for word in offer.audience.removeprefix("group ").split(",")}
    words |= {names[word] for word in words if word in names}
    return words | {"anyone": {"anyone"}, "any guest": {"guests"}, "the office": {"office"}}.get(
        offer.audience, set()
    )
