"""Steps on whole groups: an empty group made, or taken away."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any, ClassVar, Self

from neatledger.core.lists.contract import Names
from neatledger.core.steps.contract import State, Step, misfit
from neatledger.core.survey.accounts import Group

__all__ = ["GroupStep"]


@dataclass(frozen=True, slots=True)
class GroupStep(Step):
    """One group without members, made or (`made` false) taken away; `group` is its identifier, `name` its name."""

    kind: ClassVar[str] = "group"
    group: str
    name: str
    made: bool

    @property
    def target(self) -> str:
        """The group's name."""
        return self.name

    def apply(self, state: State) -> None:
        """Make it, or take it away where nobody is in it."""
        found = [one for one in state.groups if self.group == one.ident or self.name == one.name]
        if self.made:
            if found:
                raise misfit(self, "there is a group of this name or identifier")
            state.groups = [*state.groups, Group(self.name, self.group)]
            return
        if [(one.ident, one.name) for one in found] != [(self.group, self.name)]:
            raise misfit(self, "the group is not there, or not alone")
        inside = any(self.group in one.nested or self.name in one.nested for one in state.groups)
        is_primary = any(one.primary == self.group for one in state.accounts)
        if found[0].members or found[0].nested or found[0].untold or inside or is_primary:
            raise misfit(self, "somebody is in it still, or it is in another group")
        state.groups = [one for one in state.groups if one != found[0]]

    def inverse(self) -> GroupStep:
        """Return the step that takes it back."""
        return GroupStep(self.system, self.group, self.name, not self.made)

    def word(self, names: Names) -> str:
        """Say what to do."""
        return f"make the group {self.name}" if self.made else f"remove the group {self.name}"

    def to_facts(self) -> dict[str, Any]:
        """Return values of JSON."""
        return {"group": self.group, "name": self.name, "made": self.made}

    @classmethod
    def of_facts(cls, system: str, facts: Mapping[str, Any]) -> Self:
        """Return what `to_facts` made."""
        return cls(system, str(facts["group"]), str(facts["name"]), bool(facts["made"]))
