"""Who has which account: the plan's people first, and everyone else as themselves."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from neatledger.core.accounts import Account, AccountState, Group, holders_of
from neatledger.core.holders import Holder
from neatledger.core.plan import CLASSES, Kind, Plan

__all__ = ["Seat", "is_held_by", "seat_accounts"]

_NOBODY = "65534"


@dataclass(frozen=True, slots=True)
class Seat:
    """One account with the person who has it.

    An account that the plan gives to nobody stands as a person of its own: its login, or with its system
    before it (``barn/tom``) where two would else share a name.
    """

    person: str
    name: str
    kind: Kind
    system: str
    account: Account
    holder: Holder
    is_planned: bool

    @property
    def is_open(self) -> bool:
        """Tell whether the account can be used at all."""
        return self.account.state is AccountState.OPEN


def _kind_of(account: Account, service_below: int) -> Kind:
    number = int(account.ident) if account.ident.isdecimal() else service_below
    return Kind.SERVICE if number < service_below or account.ident == _NOBODY else Kind.STAFF


def seat_accounts(
    plan: Plan, found: Mapping[str, tuple[Sequence[Account], Sequence[Group]]]
) -> dict[str, list[Seat]]:
    """Return the seats of every system, in the order of its accounts.

    Arguments: the plan, and per system what was found. Equal logins in two systems stay two people until
    the plan says they are one.
    """
    has = {
        (system, login): person
        for person in plan.people.values()
        for system, logins in person.accounts.items()
        for login in logins
    }
    systems_of: dict[str, set[str]] = {}
    for system, (accounts, _) in found.items():
        for account in accounts:
            if (system, account.login) not in has:
                systems_of.setdefault(account.login, set()).add(system)
    service_below = plan.settings.get("service-uid-below", 1000)
    seats: dict[str, list[Seat]] = {}
    for system, (accounts, groups) in found.items():
        seats[system] = []
        for account, holder in zip(accounts, holders_of(accounts, groups), strict=True):
            person = has.get((system, account.login))
            if person:
                seat = Seat(person.id, person.name, person.kind, system, account, holder, True)
            else:
                login = account.login
                is_shared = login in plan.people or login in CLASSES or len(systems_of[login]) > 1
                ident = f"{system}/{login}" if is_shared else login
                kind = _kind_of(account, service_below)
                seat = Seat(ident, account.name or login, kind, system, account, holder, False)
            seats[system].append(seat)
    return seats


def is_held_by(plan: Plan, holder: str, seat: Seat) -> bool:
    """Tell whether `holder` (a person, a group of the plan, or a class) stands for a seat's person."""
    if holder in CLASSES:
        kind = CLASSES[holder]
        return kind is None or seat.kind is kind
    return plan.is_holder(holder, seat.person)
