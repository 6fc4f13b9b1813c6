"""What the commands about links, hand-outs, guests and what lapses ask in the same way."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import date

from neatledger.app import App
from neatledger.core.plan.plan import Plan
from neatledger.core.plan.rules import SharingRule, tightest
from neatledger.core.sharing.exposing import Exposer
from neatledger.core.sharing.judging import Breach, Offer, judge_offer, offers_of
from neatledger.core.sharing.service import Service
from neatledger.core.tree.order import TreeOrder
from neatledger.errors import UnknownNameError
from neatledger.ledger.reader import SurveyReader

__all__ = ["load_offers", "put_to_rules", "services_of"]

_ONLY_TREE = (
    *("list", "default", "owner", "state", "bytes", "occupied", "changed", "inode", "device", "links", "specials"),
    *("first_class", "classes", "first_odd", "odds"),
)


def services_of(app: App) -> list[tuple[SurveyReader, Service]]:
    """Return the systems that share anything beside their lists; raises `UnknownNameError` where none does."""
    found = []
    for system, reader in app.readers.items():
        service = app.services.service(system)
        if service is not None:
            found.append((reader, service))
    if not found:
        hint = "say in the plan where a system tells it: sharing, see docs/sharing.md"
        raise UnknownNameError("no system of this count tells what is shared on it", str(app.office_dir), hint)
    return found


def load_offers(reader: SurveyReader, service: Service) -> list[Offer]:
    """Return the links and hand-outs of a service with what they expose."""
    folders = reader.table("folders", without=_ONLY_TREE)
    folders.columns["name"] = list(folders.texts("name"))
    classes = reader.table("classes", without=("list", "owner", "occupied"))
    exposer = Exposer(TreeOrder(folders), classes, reader.table("large"), reader.strings("kinds.word"))
    shared = service.shared
    targets = [(one.path, one.is_file) for one in shared.links]
    targets += [(one.path, one.is_file) for one in shared.hand_outs]
    return offers_of(service, exposer.find(targets))


def put_to_rules(
    plan: Plan, day: date, service: Service, offers: list[Offer]
) -> Iterator[tuple[Offer, list[Breach]]]:
    """Yield every offer with what is not in order by the plan's rules on a day."""
    by_id = {one.id: one for one in service.shared.hand_outs}
    known: dict[tuple[int, ...], SharingRule] = {}
    for offer in offers:
        placed = plan.sharing.rules_at(offer.address, (service.person_of(offer.maker), offer.maker))
        # Most offers are under the same few rules.
        key = tuple(map(id, placed))
        if key not in known:
            known[key] = tightest(placed)
        rule = known[key]
        yield offer, list(judge_offer(offer, rule, service, plan, day, by_id))
