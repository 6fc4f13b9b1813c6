"""One person, several accounts: whose an account may be that the plan gives to nobody.

What the plan joins is joined. For the rest an equal e-mail address speaks first, then an equal login (or a
login equal to a person's id in the plan). One candidate is a proposal; several are shown and left apart.
Letter case does not matter, in addresses nor in logins.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass

from neatledger.core.people.principals import Seat
from neatledger.core.plan.plan import Kind, Plan
from neatledger.core.survey.accounts import Account

__all__ = ["Proposal", "propose"]


@dataclass(frozen=True, slots=True)
class Proposal:
    """An account that may be the candidates' (ids of the plan, or ``system:login`` of another account), and why."""

    system: str
    account: Account
    candidates: tuple[str, ...]
    because: str

    @property
    def is_clear(self) -> bool:
        """Tell whether there is exactly one candidate, and the plan knows them."""
        return len(self.candidates) == 1 and ":" not in self.candidates[0]


def propose(plan: Plan, seats: Mapping[str, Sequence[Seat]]) -> list[Proposal]:
    """Return proposals for the accounts of people that the plan gives to nobody, in the order of the systems.

    An account may go with a person of the plan who has none on that system by now, or with an account of
    another system that the plan gives to nobody either.
    """
    free = [
        seat for found in seats.values() for seat in found if not seat.is_planned and seat.kind is not Kind.SERVICE
    ]
    by_email, by_login = _of_plan(plan, seats)
    found = []
    for seat in free:
        email, login = seat.account.email.casefold(), seat.account.login.casefold()
        for known, key, told in (
            (by_email, email, f"the same e-mail address, {seat.account.email}"),
            (by_login, login, f"the same login, {seat.account.login}"),
        ):
            people = [person for person in known.get(key, ()) if key]
            if people:
                found.append(Proposal(seat.system, seat.account, tuple(people), told))
                break
        else:
            found += _among_free(seat, free)
    return found


def _of_plan(plan: Plan, seats: Mapping[str, Sequence[Seat]]) -> tuple[dict[str, list[str]], dict[str, list[str]]]:
    by_email: dict[str, list[str]] = {}
    by_login: dict[str, list[str]] = {}
    for person in plan.people.values():
        emails = {person.email.casefold()} | {
            seat.account.email.casefold() for each in seats.values() for seat in each if seat.person == person.id
        }
        logins = {person.id.casefold()} | {one.casefold() for each in person.accounts.values() for one in each}
        for known, keys in ((by_email, emails), (by_login, logins)):
            for key in keys - {""}:
                known.setdefault(key, []).append(person.id)
    return by_email, by_login


def _among_free(seat: Seat, free: Iterable[Seat]) -> Iterator[Proposal]:
    """Propose accounts of other systems that nobody has either; told once, at the one that comes later."""
    email, login = seat.account.email.casefold(), seat.account.login.casefold()
    same: dict[str, str] = {}
    for other in free:
        if other is seat:
            break
        name = f"{other.system}:{other.account.login}"
        if other.system == seat.system:
            continue
        if email and other.account.email.casefold() == email:
            same[name] = f"the same e-mail address, {seat.account.email}"
        elif other.account.login.casefold() == login:
            same.setdefault(name, f"the same login, {seat.account.login}")
    if same:
        yield Proposal(seat.system, seat.account, tuple(same), "; ".join(dict.fromkeys(same.values())))
