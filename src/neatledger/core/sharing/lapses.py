"""Everything that lapses, by date: on both sides, whatever it is."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from datetime import date, timedelta

from neatledger.core.people.principals import Principal
from neatledger.core.plan.plan import Kind, Plan
from neatledger.core.plan.sharing import days_of
from neatledger.core.posts.clocks import clocks_of
from neatledger.core.sharing.judging import Offer
from neatledger.core.sharing.service import Service
from neatledger.core.tree.address import Address

__all__ = ["SORTS", "Lapse", "lapses_of_plan", "lapses_of_principals", "lapses_of_reviews", "lapses_of_service"]

SORTS = (
    *(
        "person",
        "post",
        "beyond posts",
        "hand-over",
        "keeping",
        "entitlement",
        "acceptance",
        "review",
        "records",
        "proof",
    ),
    *("account", "password", "guest", "link", "hand-out", "team folder"),
)
"""What lapses, by the word in `Lapse.what`."""


@dataclass(frozen=True, slots=True)
class Lapse:
    """One thing that ends on a day (its last one), where it is, whom it concerns, and what happens then."""

    day: date
    what: str
    place: Address | str
    who: str
    then: str


def lapses_of_plan(plan: Plan) -> Iterator[Lapse]:
    """Yield what the plan says will end: people's time and posts, entitlements, acceptances."""
    for person in plan.people.values():
        if person.end is not None:
            yield Lapse(person.end, "person", person.name, person.id, "last day: close the accounts")
        if person.end is not None and person.accounts and person.kind is not Kind.SERVICE:
            clocks, heir = clocks_of(plan, person.end), person.successor or "nobody yet"
            yield Lapse(clocks.hand_over, "hand-over", person.name, heir, "the successor's access ends")
            yield Lapse(clocks.keep, "keeping", person.name, heir, "what they left may be removed, by hand")
        for held in person.posts:
            if held.until is not None and held.until != person.end:
                name = plan.posts[held.post].name
                yield Lapse(held.until, "post", person.name, person.id, f"last day as {name}: its groups end")
        for each in person.beyond:
            if each.until is not None:
                what: Address | str = each.group if each.folder is None else each.folder
                yield Lapse(each.until, "beyond posts", what, person.id, f"ends: {each.because}")
    for one in plan.space.entitlements:
        if one.until is not None:
            yield Lapse(one.until, "entitlement", one.name, ", ".join(one.holders), "renew it, or let it go")
    for acceptance in plan.accepted:
        if acceptance.until is not None:
            message = f"{acceptance.check} is found again"
            yield Lapse(acceptance.until, "acceptance", acceptance.place, "", message)


def lapses_of_principals(system: str, principals: Iterable[Principal], plan: Plan) -> Iterator[Lapse]:
    """Yield what ends of accounts: by a day set for it, and guests that fall idle by the plan's days."""
    idle, remove = days_of(plan.settings, "guest-idle-days"), days_of(plan.settings, "guest-remove-days")
    for principal in principals:
        place = f"{system}:{principal.account.login}"
        admission = principal.account.admission
        if admission.ends:
            yield Lapse(admission.ends, "account", place, principal.person, "the account expires")
        if admission.disable_on:
            yield Lapse(admission.disable_on, "guest", place, principal.person, "the account is disabled")
        if admission.password_set and "password-days" in plan.settings and principal.is_live:
            # Only where the plan gives passwords an age.
            until = admission.password_set + timedelta(days=plan.settings["password-days"])
            yield Lapse(until, "password", place, principal.person, "it is to be changed")
        if admission.remove_on:
            yield Lapse(admission.remove_on, "guest", place, principal.person, "the account is removed")
        # Who never signed in is idle from the day they accepted.
        last = principal.account.last_seen or admission.accepted
        if admission.is_guest and last and principal.kind is Kind.GUEST:
            day = last
            if principal.is_live and not admission.disable_on:
                then = f"idle for {idle} days: disable it"
                yield Lapse(day + timedelta(days=idle), "guest", place, principal.person, then)
            elif not principal.is_live and not admission.remove_on:
                then = f"idle for {remove} days: remove it"
                yield Lapse(day + timedelta(days=remove), "guest", place, principal.person, then)


def lapses_of_reviews(plan: Plan, reviewed: Mapping[Address, date]) -> Iterator[Lapse]:
    """Yield when each folder is to be reviewed again, where the plan says how often; `reviewed` is when each was."""
    days = plan.settings.get("review-days")
    for folder in plan.folders if days else ():
        decider, last = folder.decides or folder.owner, reviewed.get(folder.address)
        if decider and last is not None:
            due = last + timedelta(days=days or 0)
            yield Lapse(due, "review", folder.address, decider, "who can do what there is to be looked through")


def lapses_of_service(service: Service, offers: Sequence[Offer]) -> Iterator[Lapse]:
    """Yield what ends of what is shared: links, hand-outs, team folders."""
    for offer in offers:
        # What is dead already, declined or switched off, does not lapse any more.
        if offer.item.expires and not offer.why_dead(min(service.day, offer.item.expires)):
            sort = "link" if offer.is_link else "hand-out"
            who = f"{offer.maker} to {offer.audience}"
            then = f"{offer.name} ends"
            yield Lapse(offer.item.expires, sort, offer.address, who, then)
    for team in service.shared.teams:
        if team.ends:
            who = f"{len(team.members)} members"
            then = "it is no longer shared as a team folder"
            yield Lapse(team.ends, "team folder", Address(service.system, team.path), who, then)
