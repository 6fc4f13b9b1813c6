"""Who has which account: the plan's people first, and everyone else as themselves."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field, replace

from neatledger.core.lists.holders import Holder
from neatledger.core.lists.identifiers import short_number
from neatledger.core.people.membership import holders_of
from neatledger.core.plan.plan import CLASSES, Kind, Plan
from neatledger.core.survey.accounts import Account, AccountState, Group

__all__ = ["FoundAccounts", "Principal", "find_principals", "is_held_by", "numbers_of_logins", "principals_by_person"]

_NOBODY = "65534"
_FIRST_OF_PEOPLE = 1000


@dataclass(frozen=True, slots=True)
class Principal:
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
        """Tell whether the account can be used at all, or is not known to be closed."""
        return self.account.state in (AccountState.OPEN, AccountState.UNKNOWN)

    @property
    def is_live(self) -> bool:
        """Tell whether the account is there to be used: open, or shut for a while until somebody does something."""
        return self.account.state not in (AccountState.DISABLED, AccountState.EXPIRED)

    @property
    def is_doubtful(self) -> bool:
        """Tell whether nobody knows if the account is open: then all that it gives is unknown."""
        return self.account.state is AccountState.UNKNOWN

    @property
    def as_ordinary(self) -> Principal:
        """The same principal without what its privileges give whatever lists say: that is a way of its own."""
        return replace(self, holder=self.holder.ordinary)

    @property
    def may_come_in(self) -> bool:
        """Tell whether the account is open, with the service switched on and the entitlement that it asks for."""
        return self.is_open and self.account.may_use and self.account.is_entitled


def only_in(name: str, system: str, idents: Iterable[str], login: str = "") -> Principal:
    """Return somebody who is nobody's account: it could be used, and is in these groups and in no other."""
    holder = Holder("", "", frozenset(idents))
    return Principal(name, name, Kind.STAFF, system, Account(login, "", ""), holder, False)


@dataclass(frozen=True, slots=True)
class FoundAccounts:
    """A system's accounts and groups, what its list model gives whoever signs in, and privileges by identifier."""

    accounts: Sequence[Account]
    groups: Sequence[Group]
    everyone_has: frozenset[str] = frozenset()
    privileges: Mapping[str, Sequence[str]] = field(default_factory=dict)


def _kind_of(account: Account, service_below: int) -> Kind:
    number = int(account.ident) if account.ident.isdecimal() else short_number(account.ident)
    # Accounts of services have no numbers: then nothing tells a service account from a person's.
    if number is None:
        return Kind.STAFF
    # Numbers below 1000 are built in on both sorts of system (MS-SAMR 3.1.5.7.1 for the other).
    # The plan may say from where people's numbers begin on POSIX systems; on the other the rule is fixed.
    below = service_below if account.ident.isdecimal() else _FIRST_OF_PEOPLE
    return Kind.SERVICE if number < below or account.ident == _NOBODY else Kind.STAFF


_FEW = 3


def _are_uids(accounts: Sequence[Account], service_below: int) -> bool:
    """Tell whether numbers of accounts are a POSIX system's: a console that counts from 1 has no superuser.

    Where all of several accounts would be services, and 0 is not among them, their numbers say nothing of that.
    """
    numbers = [int(one.ident) for one in accounts if one.ident.isdecimal()]
    return len(numbers) < _FEW or 0 in numbers or any(number >= service_below for number in numbers)


def find_principals(plan: Plan, found: Mapping[str, FoundAccounts]) -> dict[str, list[Principal]]:
    """Return the principals of every system, in the order of its accounts.

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
    for system, one in found.items():
        for account in one.accounts:
            if not {(system, account.login), (system, account.ident)} & has.keys():
                systems_of.setdefault(account.login, set()).add(system)
    below = plan.settings.get("service-uid-below", 1000)
    principals: dict[str, list[Principal]] = {}
    for system, one in found.items():
        principals[system] = []
        service_below = below if _are_uids(one.accounts, below) else 0
        holders = holders_of(one.accounts, one.groups, one.everyone_has, one.privileges)
        for account, holder in zip(one.accounts, holders, strict=True):
            # Where a system tells no names, the plan may name accounts by their identifiers.
            person = has.get((system, account.login)) or has.get((system, account.ident))
            if person:
                principal = Principal(person.id, person.name, person.kind, system, account, holder, True)
            else:
                login = account.login
                # A stranger's login must not be taken for a person of the plan, a class of people, or a namesake
                # elsewhere.
                is_shared = login in plan.people or login in CLASSES or len(systems_of[login]) > 1
                ident = f"{system}/{login}" if is_shared else login
                kind = Kind.GUEST if account.admission.is_guest else _kind_of(account, service_below)
                principal = Principal(ident, account.name or login, kind, system, account, holder, False)
            principals[system].append(principal)
    return principals


def is_held_by(plan: Plan, holder: str, principal: Principal) -> bool:
    """Tell whether `holder` (a person, a group of the plan, or a class) stands for a principal's person."""
    if holder in CLASSES:
        kind = CLASSES[holder]
        # Whoever holds an open link may be a guest.
        return kind is None or principal.kind is kind or (kind is Kind.GUEST and principal.kind is Kind.ANYONE)
    return plan.is_holder(holder, principal.person)


def principals_by_person(principals: Iterable[Principal]) -> dict[str, list[Principal]]:
    """Return person → their principals, in the order given."""
    people: dict[str, list[Principal]] = {}
    for principal in principals:
        people.setdefault(principal.person, []).append(principal)
    return people


def numbers_of_logins(principals: Sequence[Principal]) -> Mapping[str, int]:
    """Return login and identifier, in small letters → the number of the principal; a login goes before."""
    found = {one.account.ident.casefold(): number for number, one in enumerate(principals) if one.account.ident}
    return found | {one.account.login.casefold(): number for number, one in enumerate(principals)}
