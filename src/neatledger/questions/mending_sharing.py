"""Steps that bring links and hand-outs to the plan's rules: ended, shortened, guarded, or let give less."""

from __future__ import annotations

from collections.abc import Collection
from dataclasses import replace
from datetime import timedelta

from neatledger.core.lists.rights import Right, with_view
from neatledger.core.plan.rules import tightest
from neatledger.core.sharing.judging import Breach, Offer
from neatledger.core.steps.contract import Step
from neatledger.core.steps.hand_outs import HandOutStep
from neatledger.core.steps.links import LinkStep
from neatledger.core.survey.shared import HandOut, Link
from neatledger.core.tree.address import Address
from neatledger.questions import links
from neatledger.questions.office import Office

__all__ = ["end_of", "sharing_steps"]

# What only ends with the thing itself: nothing that is changed about it would bring it to the rules.
_ENDS = frozenset({"ended-but-on", "maker-gone", "target-gone", "passed-on", "chain-too-deep"})
_KEPT = Right.ENTER | Right.LIST | Right.READ | Right.VIEW


def sharing_steps(office: Office, below: Address | None = None, people: Collection[str] | None = None) -> list[Step]:
    """Return the steps that end what is not in order with links and hand-outs, one for each of these."""
    found: list[Step] = []
    if all(office.systems.service(name) is None for name in office.readers):
        return found
    for reader, service in links.services_of(office):
        if below is not None and below.system != reader.system:
            continue
        names = {principal.account.login: principal.person for principal in service.principals}
        judged = links.judge(office.plan, office.day, service, links.load_offers(reader, service))
        for one in judged:
            offer = one.offer
            if below is not None and not offer.address.is_within(below):
                continue
            if people is not None and names.get(offer.maker) not in people:
                continue
            step = _step(office, offer, one.breaches)
            found += [step] if step is not None else []
    return found


def _step(office: Office, offer: Offer, breaches: Collection[Breach]) -> Step | None:
    checks = {one.check for one in breaches}
    item = offer.item
    if checks & _ENDS or _is_for_others(breaches):
        return end_of(offer)
    after: HandOut | Link = item
    if checks & {"no-end", "ends-too-late"}:
        # What holds for it is what the office, its system, its maker and its folder say together.
        rule = tightest(
            one for one in office.plan.sharing.rules if one.covers(offer.system, (offer.maker,), item.path)
        )
        if rule.link_days is not None:
            last = (item.made or office.day) + timedelta(days=rule.link_days)
            if last < office.day:
                return end_of(offer)
            after = replace(after, expires=last)
    if isinstance(after, Link):
        if "anyone-may-change" in checks or any("gives" in one.message for one in breaches):
            after = replace(after, rights=with_view(after.rights & _KEPT))
        if "no-password" in checks:
            after = replace(after, password=True)
    if after == item:
        return None
    return LinkStep(offer.system, item, after) if isinstance(item, Link) else HandOutStep(offer.system, item, after)


def _is_for_others(breaches: Collection[Breach]) -> bool:
    """Tell whether something is for people whom the rules keep out, or gives what no smaller right would mend."""
    return any(one.check == "beyond-the-rules" and "gives" not in one.message for one in breaches)


def end_of(offer: Offer) -> Step | None:
    """Return the step that ends a link or a hand-out; None of a link that is off already."""
    item = offer.item
    if isinstance(item, HandOut):
        return HandOutStep(offer.system, item, None)
    return LinkStep(offer.system, item, replace(item, is_on=False)) if item.is_on else None
