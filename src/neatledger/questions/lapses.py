"""Everything that lapses, on both sides, by date."""

from __future__ import annotations

from collections.abc import Collection, Iterator
from dataclasses import dataclass
from datetime import date, timedelta

from neatledger.core.sharing.judging import offers_of
from neatledger.core.sharing.lapses import (
    Lapse,
    lapses_of_plan,
    lapses_of_principals,
    lapses_of_reviews,
    lapses_of_service,
)
from neatledger.questions.keepdays import days_kept
from neatledger.questions.office import Office

__all__ = ["Lapses", "ask"]


@dataclass(frozen=True, slots=True)
class Lapses:
    """What lapses, by date: before `today`, from then on as far as is asked, and after that."""

    today: date
    past: list[Lapse]
    coming: list[Lapse]
    later: list[Lapse]


def ask(
    office: Office, *, within_days: int | None = None, what: Collection[str] | None = None, is_of_plan: bool = False
) -> Lapses:
    """Return what lapses, of all sorts or some; of the plan alone where that is asked, or there is no count."""
    today = office.day if office.has_count else office.today
    found = sorted(_all(office, is_of_plan), key=lambda one: (one.day, one.what, str(one.place), one.who))
    if what:
        found = [one for one in found if one.what in what]
    coming = [one for one in found if one.day >= today]
    end = date.max if within_days is None else today + timedelta(days=within_days)
    return Lapses(
        today,
        [one for one in found if one.day < today],
        [one for one in coming if one.day <= end],
        [one for one in coming if one.day > end],
    )


def _all(office: Office, is_of_plan: bool) -> Iterator[Lapse]:
    yield from lapses_of_plan(office.plan)
    if is_of_plan or not office.has_count:
        return
    yield from lapses_of_reviews(office.plan, office.ledger.reviews.last_reviewed(office.today))
    for system, rules in office.plan.protection.systems.items():
        for backup in rules.backups:
            if backup.tried is not None:
                then = "a year since something was brought back from it: try again"
                yield Lapse(backup.tried + timedelta(days=365), "proof", f"{system}: {backup.name}", "", then)
    for system, first in office.ledger.trail_begins().items():
        days = min(days_kept(office, system).values())
        day = first.astimezone().date() + timedelta(days=days)
        # Once it has begun some go every day.
        if day >= office.day:
            yield Lapse(
                day, "records", system, "", f"the first, of {first.astimezone():%Y-%m-%d}, are added up by day"
            )
    for system, principals in office.principals.items():
        yield from lapses_of_principals(system, principals, office.plan)
        service = office.systems.service(system)
        if service is not None:
            yield from lapses_of_service(service, offers_of(service, {}))
