"""What was done, by whom and where, as the records tell."""

from __future__ import annotations

from collections.abc import Collection, Iterator, Mapping, Sequence
from dataclasses import dataclass
from datetime import date, timedelta
from functools import partial
from ipaddress import ip_network

from neatledger.core.trail.folding import Fold, fold
from neatledger.core.trail.records import Did, Severity
from neatledger.core.tree.address import Address
from neatledger.errors import UnknownNameError
from neatledger.formats.nearest import or_else
from neatledger.questions.days import begin_of
from neatledger.questions.earlier_names import names_of
from neatledger.questions.office import FoundPerson, Office

__all__ = ["Answer", "Seen", "ask", "logins_of", "whose_logins"]

FOLDED_WITHIN = timedelta(minutes=2)


@dataclass(frozen=True, slots=True)
class Seen:
    """One line of an answer: what was done, and who it was by the ledger's own name."""

    fold: Fold
    who: str


@dataclass(frozen=True, slots=True)
class Answer:
    """What was done, the oldest first; `number` is how many records there are in all, and `refused` of them."""

    seen: Sequence[Seen]
    number: int
    refused: int
    is_whole: bool


def ask(
    office: Office,
    person: FoundPerson | str | None = None,
    below: Address | str | None = None,
    since: date | None = None,
    until: date | None = None,
    did: Collection[Did] = (),
    *,
    is_refused: bool = False,
    severity: Severity = Severity.INFO,
    origins: Collection[str] = (),
    is_folded: bool = True,
    newest: int | None = None,
) -> Answer:
    """Return what was done, folded where the same was done again within two minutes.

    Days are local ones, both included. `newest` is how many lines are wanted, of the last (None: all).
    Raises `UnknownNameError` for a device that no record tells of; an address may have done nothing.
    """
    below = office.below(below)
    _refuse_unknown(office, origins)
    person = office.find_person(person) if isinstance(person, str) else person
    logins = None if person is None else logins_of(office, person)
    places = None if below is None else names_of(office, below)
    select = partial(
        office.ledger.trail.select,
        logins=logins, below=places, dids=did or None, severity=severity, origins=origins or None,
        since=None if since is None else begin_of(since),
        until=None if until is None else begin_of(until + timedelta(days=1)),
    )  # fmt: skip
    found = select(is_done=False) if is_refused else select()
    within = FOLDED_WITHIN if is_folded else timedelta(seconds=-1)
    wanted = newest
    while True:
        records = list(found.records(wanted))
        folds = fold(records, within)
        is_whole = wanted is None or len(records) >= found.rows
        if is_whole or newest is None or len(folds) > newest:
            break
        wanted = 4 * max(len(records), 1)
    if not is_whole:
        # The first of them may be the rest of a fold that began before.
        folds = folds[-(newest or 0) :]
    whose = whose_logins(office)
    seen = [Seen(one, whose.get((one.system, one.first.who.casefold()), one.first.who)) for one in folds]
    return Answer(seen, found.number, found.refused, is_whole)


def _refuse_unknown(office: Office, origins: Collection[str]) -> None:
    known = {one.casefold(): one for one in office.ledger.trail.origins()} if origins else {}
    for word in origins:
        try:
            ip_network(word, strict=False)
        except ValueError:
            if word.casefold() not in known:
                hint = or_else(word, known.values(), "trail -a shows from where each thing was done")
                raise UnknownNameError("no record tells of this address or device", word, hint) from None


def logins_of(office: Office, person: FoundPerson) -> set[tuple[str, str]]:
    """Return the logins of a person by system: those that are there, and those that the plan gives them."""
    found = {(system, one.account.login) for system, some in person.principals.items() for one in some}
    planned = office.plan.people.get(person.id)
    return found | set(_planned_logins(planned.accounts) if planned is not None else ())


def _planned_logins(accounts: Mapping[str, Sequence[str]]) -> Iterator[tuple[str, str]]:
    for system, logins in accounts.items():
        yield from ((system, login) for login in logins)


def whose_logins(office: Office) -> dict[tuple[str, str], str]:
    """Return system and login, in small letters → the person, by the plan and the last count."""
    found = {
        (system, login.casefold()): ident
        for ident, person in office.plan.people.items()
        for system, login in _planned_logins(person.accounts)
    }
    if office.has_count:
        for some in office.systems.holders.values():
            found |= {(one.system, one.account.login.casefold()): one.person for one in some}
    return found
