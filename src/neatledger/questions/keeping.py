"""How long records of what was done stay, and the records of one person removed."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from datetime import datetime
from typing import cast

from neatledger.core.trail.records import Did
from neatledger.questions.office import FoundPerson, Office
from neatledger.questions.trail import logins_of

__all__ = ["KEEP_DAYS", "SUM_DAYS", "Kept", "days_kept", "forget", "keep"]

KEEP_DAYS, SUM_DAYS = 400, 1100


@dataclass(frozen=True, slots=True)
class Kept:
    """What became of a system's records: added up into sums by day, and sums dropped."""

    system: str
    added_up: int
    sums: int
    dropped: int


def days_kept(office: Office, system: str) -> Mapping[Did, int]:
    """Return how many days records of each kind stay one by one: the system's own number goes before the office's."""
    usual = office.plan.settings.get("trail-days", KEEP_DAYS)
    planned = office.plan.systems.get(system)
    own = planned.settings.get("trail-days") if planned is not None else None
    if isinstance(own, int):
        usual, own = own, None
    by_kind = cast(Mapping[str, int], own or {})
    return {did: by_kind.get(did.key, usual) for did in Did}


def keep(office: Office, now: datetime) -> list[Kept]:
    """Add up and drop what is old enough, on every system; raises `LedgerError`."""
    sum_days = office.plan.settings.get("trail-sum-days", SUM_DAYS)
    found = []
    for system in office.ledger.trail.covered() if office.ledger.has_trail() else ():
        done = office.ledger.trail.thin(system, now, days_kept(office, system), sum_days)
        if done.added_up or done.dropped:
            found.append(Kept(system, done.added_up, done.sums, done.dropped))
    return found


def forget(office: Office, person: FoundPerson) -> tuple[int, int]:
    """Remove a person's records, and leave sums under nobody's name; returns how many records and words went."""
    done = office.ledger.trail.forget(sorted(logins_of(office, person)))
    return done.records, done.words
