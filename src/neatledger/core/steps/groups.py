"""Steps on whole groups: one made, or taken away, with nobody or one account in it."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace
from typing import Any, ClassVar, Self

from neatledger.core.lists.contract import Names
from neatledger.core.steps.contract import State, Step, misfit
from neatledger.core.survey.accounts import Group

__all__ = ["GroupStep"]


@dataclass(frozen=True, slots=True)
class GroupStep(Step):
    """One group, made or (`made` false) taken away; `group` is its identifier, `name` its name.

    Where systems give identifiers only to what is there, or know groups by name, both are the name. `first` is the
    login of who is in it at that time, for some directories hold no empty group (RFC 4519 section 3.5).
    """

    kind: ClassVar[str] = "group"
    group: str
    name: str
    made: bool
    first: str = ""

    @property
    def target(self) -> str:
        """The group's name."""
        return self.name

    def apply(self, state: State) -> None:
        """Make it, or take it away where nobody else is in it."""
        found = [one for one in state.groups if self.group == one.ident or self.name == one.name]
        inside = (self.first,) if self.first else ()
        if self.made:
            if found:
                raise misfit(self, "there is a group of this name or identifier")
            if self.first and not any(one.login == self.first for one in state.accounts):
                raise misfit(self, f"there is no account {self.first}")
            state.groups = [*state.groups, Group(self.name, self.group, inside)]
            return
        if [(one.ident, one.name) for one in found] != [(self.group, self.name)]:
            raise misfit(self, "the group is not there, or not alone")
        is_inside = any(self.group in one.nested or self.name in one.nested for one in state.groups)
        is_primary = any(one.primary == self.group for one in state.accounts)
        if found[0].members != inside or found[0].nested or found[0].untold or is_inside or is_primary:
            raise misfit(self, "somebody else is in it still, or it is in another group")
        state.groups = [one for one in state.groups if one != found[0]]

    def inverse(self) -> GroupStep:
        """Return the step that takes it back."""
        return replace(self, made=not self.made)

    def word(self, names: Names) -> str:
        """Say what to do."""
        inside = f" with {self.first} in it" if self.first else ""
        return f"{'make' if self.made else 'remove'} the group {self.name}{inside}"

    def to_facts(self) -> dict[str, Any]:
        """Return values of JSON."""
        return {"group": self.group, "name": self.name, "made": self.made, "first": self.first}

    @classmethod
    def of_facts(cls, system: str, facts: Mapping[str, Any]) -> Self:
        """Return what `to_facts` made."""
        group, name = str(facts["group"]), str(facts["name"])
        return cls(system, group, name, bool(facts["made"]), str(facts.get("first", "")))
