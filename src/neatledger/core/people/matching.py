"""One person, several accounts: whose an account may be that the plan gives to nobody.

What the plan joins is joined. For the rest an equal e-mail address speaks first, then an equal login (or a
login equal to a person's id in the plan). One candidate is a proposal; several are shown and left apart.
Letter case does not matter, in addresses nor in logins.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass

from neatledger.core.people.principals import Principal
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


def propose(plan: Plan, principals: Mapping[str, Sequence[Principal]]) -> list[Proposal]:
    """Return proposals for the accounts of people that the plan gives to nobody, in the order of the systems.

    An account may go with a person of the plan who has none on that system by now, or with an account of
    another system that the plan gives to nobody either.
    """
    free = [
        principal
        for found in principals.values()
        for principal in found
        if not principal.is_planned and principal.kind is not Kind.SERVICE
    ]
    by_email, by_login = _of_plan(plan, principals)
    found = []
    for principal in free:
        email, login = principal.account.email.casefold(), principal.account.login.casefold()
        for known, key, message in (
            (by_email, email, f"the same e-mail address, {principal.account.email}"),
            (by_login, login, f"the same login, {principal.account.login}"),
        ):
            # An empty address matches nobody: many accounts have none.
            people = [person for person in known.get(key, ()) if key]
            if people:
                found.append(Proposal(principal.system, principal.account, tuple(people), message))
                break
        else:
            found += _among_free(principal, free)
    return found


def _of_plan(
    plan: Plan, principals: Mapping[str, Sequence[Principal]]
) -> tuple[dict[str, list[str]], dict[str, list[str]]]:
    by_email: dict[str, list[str]] = {}
    by_login: dict[str, list[str]] = {}
    for person in plan.people.values():
        emails = {person.email.casefold()} | {
            principal.account.email.casefold()
            for each in principals.values()
            for principal in each
            if principal.person == person.id
        }
        logins = {person.id.casefold()} | {one.casefold() for each in person.accounts.values() for one in each}
        for known, keys in ((by_email, emails), (by_login, logins)):
            for key in keys - {""}:
                known.setdefault(key, []).append(person.id)
    return by_email, by_login


def _among_free(principal: Principal, free: Iterable[Principal]) -> Iterator[Proposal]:
    """Propose accounts of other systems that nobody has either; told once, at the one that comes later."""
    email, login = principal.account.email.casefold(), principal.account.login.casefold()
    same: dict[str, str] = {}
    for other in free:
        # Only those before it: a pair is told once, at the later one.
        if other is principal:
            break
        name = f"{other.system}:{other.account.login}"
        # Two accounts of one system are two on purpose.
        if other.system == principal.system:
            continue
        if email and other.account.email.casefold() == email:
            same[name] = f"the same e-mail address, {principal.account.email}"
        elif other.account.login.casefold() == login:
            same.setdefault(name, f"the same login, {principal.account.login}")
    if same:
        yield Proposal(principal.system, principal.account, tuple(same), "; ".join(dict.fromkeys(same.values())))
