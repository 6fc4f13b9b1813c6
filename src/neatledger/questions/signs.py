"""What looks wrong in the records of every system, within some days."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from datetime import date, datetime, timedelta
from functools import partial

from neatledger.core.survey.accounts import AccountState
from neatledger.core.trail.records import Did, Record
from neatledger.core.trail.signs.contract import History, Known, Sign, Thresholds
from neatledger.core.trail.signs.table import find_signs
from neatledger.questions.covered import coverage_of
from neatledger.questions.days import begin_of
from neatledger.questions.office import Office
from neatledger.questions.trail import whose_logins

__all__ = ["SeenSign", "ask"]

_PAST_DAYS = 120  # in which the usual is looked for
DAYS = 30
_OVER = frozenset({AccountState.DISABLED, AccountState.EXPIRED})


@dataclass(frozen=True, slots=True)
class SeenSign:
    """One sign, and who it was by the ledger's own name (empty: of nobody)."""

    sign: Sign
    person: str


def ask(office: Office, since: date | None = None, until: date | None = None) -> list[SeenSign]:
    """Return what looks wrong in the records, the oldest first; of the last thirty days where `since` is not said.

    Days are local ones, both included; `until` is today where it is not said.
    """
    last = begin_of((until or office.today) + timedelta(days=1))
    first = begin_of(since or office.today - timedelta(days=DAYS))
    whose = whose_logins(office)
    found = []
    for system in office.ledger.trail.covered():
        # Of what was done after the last reading nothing is known: it is no silence.
        coverage = coverage_of(office, system)
        now = last if coverage is None else min(last, coverage.until)
        past = first - timedelta(days=_PAST_DAYS)
        table = office.ledger.trail.table(system, past, last, kinds_since=first)
        limits, known = Thresholds.of(office.plan.settings), _known(office, system)
        span = int(first.timestamp()), int(now.timestamp())
        for one in find_signs(History(table, *span, limits, known, partial(_fetch, office, system))):
            found.append(SeenSign(one, whose.get((system, one.login.casefold()), one.login)))
    return sorted(found, key=lambda one: (one.sign.first, one.sign.system, one.sign.kind.value, one.person))


def _fetch(office: Office, system: str, login: str, did: Did, first: int, end: int) -> Iterator[Record]:
    found = office.ledger.trail.select(
        logins=[(system, login)],
        dids=[did],
        since=datetime.fromtimestamp(first).astimezone(),
        until=datetime.fromtimestamp(end).astimezone(),
    )
    return (record for _, record in found.records())


def _known(office: Office, system: str) -> Known:
    """Return what the ledger knows of a system: by all its counts who was ever there, and who is over since when."""
    logins: set[str] = set()
    over: dict[str, tuple[date, str]] = {}
    for count in office.counts_until():
        for info in count.surveys:
            if info.system != system:
                continue
            for account in office.ledger.read_survey(info).accounts:
                login = account.login.casefold()
                logins.add(login)
                if account.state not in _OVER:
                    over.pop(login, None)
                elif login not in over:
                    # What was done on the day of the count may have been done before.
                    words = f"their account was found {account.state.value} on {count.day}"
                    over[login] = count.day + timedelta(days=1), words
    for person in office.plan.people.values():
        for login in (one.casefold() for one in person.accounts.get(system, ())):
            logins.add(login)
            if person.end is not None and (login not in over or over[login][0] > person.end):
                over[login] = person.end + timedelta(days=1), f"their last day was {person.end}"
    kinds = office.readers[system].kinds if system in office.readers else frozenset()
    return Known(frozenset(logins) if len(logins) > 1 else frozenset(), over, kinds)
