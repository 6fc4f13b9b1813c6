"""``people [PERSON]``: the people with their accounts and groups, or one person's sheet."""

from __future__ import annotations

import argparse
from collections.abc import Iterator, Sequence

from neatledger.app import App
from neatledger.commands.asking import find_person
from neatledger.commands.holdings import load_views
from neatledger.core.people.homes import HomeMatch, match_homes
from neatledger.core.people.principals import Principal
from neatledger.core.plan.limits import On
from neatledger.core.space.limit_table import LimitStatus, build_limit_table
from neatledger.core.space.sizes import show_size
from neatledger.faces.show import show_report
from neatledger.ledger.homes import find_homes
from neatledger.reports.people import people_report, sheet_report
from neatledger.reports.report import Cell

__all__ = ["add_arguments", "run"]


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Declare the words of the call."""
    parser.add_argument("person", metavar="PERSON", nargs="?", help="show this person's sheet")
    parser.add_argument("--services", action="store_true", help="also service accounts that the plan does not name")


def run(args: argparse.Namespace, app: App) -> int:
    """List the people, or show one."""
    groups = {system: reader.groups for system, reader in app.readers.items()}
    if args.person:
        person, found = find_person(app, args.person)
        mine = [principal for principals in found.values() for principal in principals]
        shared = [row for system, principals in found.items() for row in _shared(app, system, principals)]
        report = sheet_report(app.plan, person, mine, groups, _homes(app), app.today, _space(app, person), shared)
        show_report(report, app)
        return 0
    principals: list[Principal] = (
        [] if app.options.side == "plan" else [principal for each in app.principals.values() for principal in each]
    )
    with_services = args.services or app.options.format != "table"
    show_report(people_report(app.plan, principals, groups, app.today, with_services=with_services), app)
    return 0


def _homes(app: App) -> list[HomeMatch]:
    found: list[HomeMatch] = []
    for system, reader in app.readers.items():
        if system in app.plan.systems:
            found += match_homes(find_homes(reader, app.plan.systems[system]), reader.accounts)
    return found


def _shared(app: App, system: str, principals: list[Principal]) -> Iterator[Sequence[Cell]]:
    """Yield what a person shared, was given, and has copies of on devices."""
    service = app.services.service(system)
    if service is None:
        return
    mine, day = {principal.account.login for principal in principals}, service.day
    live = [one for one in service.shared.hand_outs if one.is_live(day)]
    numbers = {service.numbers[login] for login in mine}
    for what, number, asks in (
        (
            "links",
            sum(one.maker in mine and not one.why_dead(day) for one in service.shared.links),
            "links --live --by",
        ),
        ("handed out", sum(one.giver in mine for one in live), "links --live --by"),
        ("was handed", sum(bool(numbers & set(service.receivers(one))) for one in live), "links --live --to"),
    ):
        if number:
            yield what, system, number, f"{asks} {principals[0].person} lists them"
    for device in service.shared.devices:
        if device.owner in mine:
            held = "" if device.held_bytes is None else f", holds {show_size(device.held_bytes)}"
            yield "device", system, device.name, f"{device.state}{held}, last seen {device.last_seen or 'never'}"


def _space(app: App, person: str) -> list[LimitStatus]:
    """Return the person's space on every system."""
    lines = [line for view in load_views(app).values() for line in build_limit_table(app.plan, view)]
    return [line for line in lines if line.target.on is On.PERSON and line.target.name == person]
