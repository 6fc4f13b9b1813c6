"""Steps on accounts: opened or closed, the service switched on or off for one, made or taken away whole."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, fields, replace
from datetime import date
from typing import Any, ClassVar, Self

from neatledger.core.lists.contract import Names
from neatledger.core.steps.contract import State, Step, misfit
from neatledger.core.survey.accounts import Account, AccountState, Admission

__all__ = ["AccountStep", "ServiceStep", "WholeAccountStep"]


def _place(step: Step, login: str, state: State) -> int:
    for place, account in enumerate(state.accounts):
        if account.login == login:
            return place
    raise misfit(step, "the account is not there")


def _put(state: State, place: int, account: Account) -> None:
    state.accounts = [*state.accounts[:place], account, *state.accounts[place + 1 :]]


@dataclass(frozen=True, slots=True)
class AccountStep(Step):
    """Whether one account can be used: opened, or closed."""

    kind: ClassVar[str] = "account"
    login: str
    before: AccountState
    after: AccountState

    @property
    def target(self) -> str:
        """The account's login."""
        return self.login

    def apply(self, state: State) -> None:
        """Set it in a state."""
        place = _place(self, self.login, state)
        found = state.accounts[place]
        if found.state is not self.before:
            raise misfit(self, f"the account is {found.state.value}, and not {self.before.value}")
        _put(state, place, replace(found, state=self.after))

    def inverse(self) -> AccountStep:
        """Return the step that takes it back."""
        return AccountStep(self.system, self.login, self.after, self.before)

    def word(self, names: Names) -> str:
        """Say what to do."""
        if self.after is AccountState.OPEN:
            return f"open the account {self.login}"
        return f"close the account {self.login}" + (
            "" if self.after is AccountState.DISABLED else f" ({self.after.value})"
        )

    def to_facts(self) -> dict[str, Any]:
        """Return values of JSON."""
        return {"login": self.login, "before": self.before.value, "after": self.after.value}

    @classmethod
    def of_facts(cls, system: str, facts: Mapping[str, Any]) -> Self:
        """Return what `to_facts` made."""
        return cls(system, str(facts["login"]), AccountState(facts["before"]), AccountState(facts["after"]))


@dataclass(frozen=True, slots=True)
class ServiceStep(Step):
    """Whether the service is switched on for one account."""

    kind: ClassVar[str] = "service"
    login: str
    after: bool

    @property
    def target(self) -> str:
        """The account's login."""
        return self.login

    def apply(self, state: State) -> None:
        """Set it in a state."""
        place = _place(self, self.login, state)
        found = state.accounts[place]
        if found.may_use == self.after:
            raise misfit(self, f"the service is {'on' if self.after else 'off'} for it already")
        _put(state, place, replace(found, may_use=self.after))

    def inverse(self) -> ServiceStep:
        """Return the step that takes it back."""
        return replace(self, after=not self.after)

    def word(self, names: Names) -> str:
        """Say what to do."""
        return f"switch the service {'on' if self.after else 'off'} for the account {self.login}"

    def to_facts(self) -> dict[str, Any]:
        """Return values of JSON."""
        return {"login": self.login, "after": self.after}

    @classmethod
    def of_facts(cls, system: str, facts: Mapping[str, Any]) -> Self:
        """Return what `to_facts` made."""
        return cls(system, str(facts["login"]), bool(facts["after"]))


@dataclass(frozen=True, slots=True)
class WholeAccountStep(Step):
    """An account that is made (`before` None), or taken away with its memberships (`after` None).

    `groups` are the identifiers of the groups whose lines name it.
    """

    kind: ClassVar[str] = "whole account"
    before: Account | None
    after: Account | None
    groups: tuple[str, ...] = ()

    @property
    def target(self) -> str:
        """The account's login."""
        return self.account.login

    @property
    def account(self) -> Account:
        """The account itself."""
        account = self.after if self.before is None else self.before
        assert account is not None, "an account is made, or it is taken away"
        return account

    def apply(self, state: State) -> None:
        """Set it in a state."""
        login = self.account.login
        found = [one for one in state.accounts if one.login == login]
        has = tuple(group.ident for group in state.groups if login in group.members)
        if self.before is None:
            if found or has:
                raise misfit(self, "there is an account of this login")
            state.accounts = [*state.accounts, self.account]
        else:
            if found != [self.before] or set(has) != set(self.groups):
                raise misfit(self, "the account or its memberships are others" if found else "it is not there")
            state.accounts = [one for one in state.accounts if one.login != login]
        groups = []
        for group in state.groups:
            members = tuple(one for one in group.members if one != login)
            if self.after is not None and group.ident in self.groups:
                members = (*members, login)
            groups.append(replace(group, members=members))
        state.groups = groups

    def inverse(self) -> WholeAccountStep:
        """Return the step that takes it back."""
        return WholeAccountStep(self.system, self.after, self.before, self.groups)

    def word(self, names: Names) -> str:
        """Say what to do."""
        login = self.account.login
        if self.before is not None:
            return f"remove the account {login}"
        among = ", ".join(names.group(one) for one in self.groups)
        return f"make the account {login}" + (f" in the groups {among}" if among else "")

    def to_facts(self) -> dict[str, Any]:
        """Return values of JSON."""
        before, after = (None if one is None else _account_facts(one) for one in (self.before, self.after))
        return {"before": before, "after": after, "groups": list(self.groups)}

    @classmethod
    def of_facts(cls, system: str, facts: Mapping[str, Any]) -> Self:
        """Return what `to_facts` made."""
        before, after = (None if facts[name] is None else _account_of(facts[name]) for name in ("before", "after"))
        if (before is None) == (after is None):
            raise ValueError("an account is made, or it is taken away")
        return cls(system, before, after, tuple(map(str, facts["groups"])))


def _account_facts(account: Account) -> dict[str, Any]:
    found = {each.name: getattr(account, each.name) for each in fields(account)}
    found["state"] = account.state.value
    found["last_seen"] = None if account.last_seen is None else account.last_seen.isoformat()
    found["admission"] = account.admission.to_facts()
    return found


def _account_of(facts: Mapping[str, Any]) -> Account:
    found = dict(facts)
    found["state"] = AccountState(facts["state"])
    found["last_seen"] = None if facts["last_seen"] is None else date.fromisoformat(facts["last_seen"])
    found["admission"] = Admission.of_facts(facts["admission"])
    return Account(**found)
