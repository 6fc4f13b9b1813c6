"""Links and hand-outs: what they give and expose, and what of them is not in order by the plan's rules."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from datetime import date, timedelta

from neatledger.core.plan.plan import Plan
from neatledger.core.plan.rules import SharingRule, tightest
from neatledger.core.sharing.exposing import Exposer
from neatledger.core.sharing.judging import Breach, Offer, judge_offer, offers_of
from neatledger.core.sharing.service import Service
from neatledger.core.tree.address import Address
from neatledger.core.tree.order import TreeOrder
from neatledger.errors import UnknownNameError
from neatledger.formats.nearest import or_else
from neatledger.ledger.reader import SurveyReader
from neatledger.questions.office import Office

__all__ = ["JudgedOffer", "JudgedOffers", "OfferFilter", "ask", "find_offer", "judge", "load_offers", "services_of"]


@dataclass(frozen=True, slots=True)
class JudgedOffer:
    """A link or hand-out with all that is not in order with it."""

    offer: Offer
    breaches: Sequence[Breach]


@dataclass(frozen=True, slots=True)
class JudgedOffers:
    """Links and hand-outs of all services, of `total` that there are; `names` has people by their logins."""

    judged: list[JudgedOffer]
    names: dict[str, str]
    total: int


@dataclass(frozen=True, slots=True)
class OfferFilter:
    """Which links and hand-outs are wanted; what is None or False asks for nothing.

    `below` lead to a folder or into it, `over` open it; `by` made them, `to` is whom they are for (a person, a group,
    or one of the words anyone, guests, office); `sort` is ``link`` or ``hand-out``.
    """

    below: Address | None = None
    over: Address | None = None
    by: str | None = None
    to: str | None = None
    sort: str | None = None
    ends_within: int | None = None
    is_live: bool = False
    is_not_in_order: bool = False

    def wants(self, offer: Offer, maker: str, names: dict[str, str], day: date) -> bool:
        """Tell whether an offer is wanted, whatever is not in order with it."""
        if self.below is not None and not offer.address.is_within(self.below):
            return False
        if self.over is not None and not self.over.is_within(offer.address):
            return False
        if self.by and self.by not in (maker, offer.maker):
            return False
        if self.to and self.to not in _receivers(offer, names):
            return False
        if self.sort and (self.sort == "link") != offer.is_link:
            return False
        if self.ends_within is not None:
            ends = offer.item.expires
            if ends is None or not day <= ends <= day + timedelta(days=self.ends_within):
                return False
        return not (self.is_live and offer.why_dead(day))


def _receivers(offer: Offer, names: dict[str, str]) -> set[str]:
    """Return the words by which the receivers of something may be asked for."""
    words = {word.strip() for word in offer.audience.removeprefix("group ").split(",")}
    words |= {names[word] for word in words if word in names}
    special = {"anyone": {"anyone"}, "any guest": {"guests"}, "the office": {"office"}}
    return words | special.get(offer.audience, set())


def services_of(office: Office) -> list[tuple[SurveyReader, Service]]:
    """Return the systems that share anything beside their lists; raises `UnknownNameError` where none does."""
    found = []
    for system, reader in office.readers.items():
        service = office.systems.service(system)
        if service is not None:
            found.append((reader, service))
    if not found:
        hint = "say in the plan where a system tells it: sharing, see docs/sharing.md"
        raise UnknownNameError("no system of this count tells what is shared on it", str(office.folder), hint)
    return found


def load_offers(reader: SurveyReader, service: Service) -> list[Offer]:
    """Return the links and hand-outs of a service with what they expose."""
    folders = reader.table("folders")
    folders = folders.with_column("name", list(folders.texts("name")))
    classes, large = reader.table("classes"), reader.table("large")
    exposer = Exposer(TreeOrder(folders), classes, large, reader.strings("kinds.word"))
    shared = service.shared
    targets = [(one.path, one.is_file) for one in shared.links]
    targets += [(one.path, one.is_file) for one in shared.hand_outs]
    return offers_of(service, exposer.find(targets))


def find_offer(office: Office, word: str) -> Offer:
    """Return the link or hand-out that is meant: ``link:k1``, or its id alone; raises `UnknownNameError`."""
    offers = [offer for reader, service in services_of(office) for offer in load_offers(reader, service)]
    found = [offer for offer in offers if word.casefold() in (offer.name.casefold(), offer.item.id.casefold())]
    if len(found) == 1:
        return found[0]
    if found:
        names = ", ".join(f"{offer.name} on {offer.system}" for offer in found)
        raise UnknownNameError(f"several are called {word!r}", hint=f"there are: {names}")
    known = [name for offer in offers for name in (offer.name, offer.item.id)]
    raise UnknownNameError(f"no link or hand-out is called {word!r}", hint=or_else(word, known, "links lists them"))


def judge(plan: Plan, day: date, service: Service, offers: Sequence[Offer]) -> Iterator[JudgedOffer]:
    """Yield every offer with what is not in order by the plan's rules on a day."""
    by_id = {one.id: one for one in service.shared.hand_outs}
    known: dict[tuple[int, ...], SharingRule] = {}
    for offer in offers:
        placed = plan.sharing.rules_at(offer.address, (service.person_of(offer.maker), offer.maker))
        # Most offers are under the same few rules.
        key = tuple(map(id, placed))
        if key not in known:
            known[key] = tightest(placed)
        yield JudgedOffer(offer, list(judge_offer(offer, known[key], service, plan, day, by_id)))


def ask(office: Office, wanted: OfferFilter = OfferFilter()) -> JudgedOffers:
    """Return the wanted links and hand-outs of all services; raises `UnknownNameError` where there is no service."""
    found = JudgedOffers([], {}, 0)
    total = 0
    makers: set[str] = set()
    receivers = {"anyone", "guests", "office", *office.plan.groups}
    for reader, service in services_of(office):
        receivers |= {group.name for group in reader.groups}
        offers = load_offers(reader, service)
        total += len(offers)
        for principal in service.principals:
            found.names[principal.account.login] = principal.person
        chosen = [
            offer for offer in offers if wanted.wants(offer, service.person_of(offer.maker), found.names, office.day)
        ]
        for offer in offers:
            makers |= {offer.maker, service.person_of(offer.maker)}
            receivers |= _receivers(offer, found.names)
        judged = judge(office.plan, office.day, service, chosen)
        found.judged.extend(one for one in judged if one.breaches or not wanted.is_not_in_order)
    known = {*found.names, *found.names.values(), *office.plan.people}
    for name, words in ((wanted.by, makers | known), (wanted.to, receivers | known)):
        if name and name not in words:
            hint = or_else(name, words, "people and groups list everyone")
            raise UnknownNameError(f"nobody is called {name!r}", hint=hint)
    return JudgedOffers(found.judged, found.names, total)
