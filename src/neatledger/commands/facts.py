"""The facts of every system, as checks want them."""

from __future__ import annotations

from collections.abc import Callable

from neatledger.app import App
from neatledger.commands.asking import ask_person, entry_names
from neatledger.commands.sharing import load_offers, put_to_rules
from neatledger.commands.spacefacts import load_space
from neatledger.commands.whole import load_everyone
from neatledger.core.access.ways import Access
from neatledger.core.checks.contract import Office, ServiceFacts, SystemFacts, stranger
from neatledger.core.lists.table import MODELS
from neatledger.core.people.homes import match_homes
from neatledger.core.people.principals import Principal
from neatledger.core.plan.plan import PlanSystem
from neatledger.core.tree.address import Address
from neatledger.ledger.homes import find_homes
from neatledger.ledger.places import find_location
from neatledger.ledger.reader import SurveyReader

__all__ = ["load_office"]


def load_office(app: App) -> Office:
    """Read the whole office for its checks."""
    systems = [
        _load(app, app.plan.systems.get(name, PlanSystem(name, "", {})), reader)
        for name, reader in app.readers.items()
    ]
    return Office(app.plan, systems, app.today, lambda: load_space(app), lambda: _services(app))


def _services(app: App) -> list[ServiceFacts]:
    found = []
    for system, reader in app.readers.items():
        service = app.services.service(system)
        if service is not None:
            offers = load_offers(reader, service)
            found.append(ServiceFacts(service, list(put_to_rules(app.plan, app.services.day, service, offers))))
    return found


def _load(app: App, system: PlanSystem, reader: SurveyReader) -> SystemFacts:
    principals = [*app.services.holders[reader.system], stranger(MODELS[reader.model].everyone_has)]
    everyone = load_everyone(app.services, reader, principals, with_defaults=True, is_narrow=True)
    facts = SystemFacts(
        name=reader.system,
        everyone=everyone,
        accounts=reader.accounts,
        groups=reader.groups,
        odd=reader.table("odd"),
        collisions=reader.table("collisions"),
        homes=match_homes(find_homes(reader, system), reader.accounts),
        home_roots=system.homes,
        not_seen=reader.not_seen,
        owner_name=entry_names(reader).owner,
        explain=_explainer(app, reader, lambda row: facts.address(row)),
        names=entry_names(reader),
    )
    return facts


def _explainer(
    app: App, reader: SurveyReader, address_of: Callable[[int], Address]
) -> Callable[[int, Principal], Access]:
    def explain(row: int, principal: Principal) -> Access:
        return ask_person(app, find_location(reader, address_of(row)), [principal])

    return explain
