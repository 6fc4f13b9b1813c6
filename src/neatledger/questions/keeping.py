"""How long records of what was done stay, and the records of one person removed."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime

from neatledger.questions.keepdays import SUM_DAYS, days_kept
from neatledger.questions.office import FoundPerson, Office
from neatledger.questions.trail import logins_of

__all__ = ["Kept", "forget", "keep"]


@dataclass(frozen=True, slots=True)
class Kept:
    """What became of a system's records: added up into sums by day, and sums dropped."""

    system: str
    added_up: int
    sums: int
    dropped: int


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
