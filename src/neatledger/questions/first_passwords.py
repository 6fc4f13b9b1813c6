"""First passwords for somebody who starts: set where a system can, and told once."""

from __future__ import annotations

from dataclasses import dataclass, field

from neatledger.errors import NeatError, StepError
from neatledger.questions.carrying import Carriers
from neatledger.questions.office import Office

__all__ = ["FirstPassword", "accounts_of", "ask"]


@dataclass(frozen=True, slots=True)
class FirstPassword:
    """What one account got; the password is left out of every text form. Or why it got none (`why`)."""

    system: str
    login: str
    password: str = field(default="", repr=False)
    why: str = ""


def accounts_of(office: Office, person: str) -> list[tuple[str, str]]:
    """Return the accounts that are there and have never been used, by system and login.

    Raises `StepError` for somebody who signed in already: their password is their own.
    """
    found = []
    for system, principals in office.principals.items():
        for one in principals:
            if one.person != person:
                continue
            if one.account.last_seen is not None:
                message = f"they signed in on {one.account.last_seen}: their password is their own"
                raise StepError(message, f"{system}:{one.account.login}")
            found.append((system, one.account.login))
    if not found:
        raise StepError("no account of theirs was counted", person, "make it with mend, then count")
    return found


def ask(accounts: list[tuple[str, str]], carriers: Carriers) -> list[FirstPassword]:
    """Set a new password for each account; what one system refuses stops none of the others."""
    found = []
    for system, login in accounts:
        try:
            found.append(FirstPassword(system, login, carriers.first_password(system, login)))
        except NeatError as error:
            found.append(FirstPassword(system, login, why=str(error)))
    return found
