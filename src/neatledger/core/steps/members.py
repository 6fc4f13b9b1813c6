"""Steps on groups: an account or a group put into one, or taken out."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Any, ClassVar, Self

from neatledger.core.lists.contract import Names
from neatledger.core.steps.contract import State, Step, misfit
from neatledger.core.survey.accounts import Group

__all__ = ["MemberStep"]


@dataclass(frozen=True, slots=True)
class MemberStep(Step):
    """One member of one group: in or out.

    `group` and `name` are the group's identifier and name; `member` is an account's login, or (`is_group`) the
    identifier of a group inside it, with `member_name` to call it by.
    """

    kind: ClassVar[str] = "member"
    group: str
    name: str
    member: str
    is_group: bool
    after: bool
    member_name: str = ""

    @property
    def before(self) -> bool:
        """Whether it was a member before."""
        return not self.after

    @property
    def target(self) -> str:
        """The group and the member."""
        return f"{self.name} / {self.member_name or self.member}"

    def apply(self, state: State) -> None:
        """Set it in a state; a primary group is no line of the group's and cannot be taken away like that."""
        place, group = self._find(state.groups)
        names = self._names(state.groups)
        has = group.nested if self.is_group else group.members
        if bool(names & set(has)) != self.before:
            raise misfit(self, "they are in it already" if self.after else self._why_not_in(state, group))
        then = (*has, self.member) if self.after else tuple(one for one in has if one not in names)
        changed = replace(group, nested=then) if self.is_group else replace(group, members=then)
        state.groups = [*state.groups[:place], changed, *state.groups[place + 1 :]]

    def _why_not_in(self, state: State, group: Group) -> str:
        account = next((one for one in state.accounts if one.login == self.member), None)
        if not self.is_group and account is not None and account.primary == group.ident:
            return "it is their primary group, which they keep"
        return "they are not in it"

    def _names(self, groups: Sequence[Group]) -> set[str]:
        """Return by what a group may call the member: itself, and a group inside it also by name."""
        if not self.is_group:
            return {self.member}
        return {self.member} | {one.name for one in groups if one.ident == self.member}

    def _find(self, groups: Sequence[Group]) -> tuple[int, Group]:
        # Two lines may have one identifier: the one of this name is meant.
        found = [(place, one) for place, one in enumerate(groups) if (one.ident, one.name) == (self.group, self.name)]
        if not found:
            raise misfit(self, "the group is not there")
        return found[0]

    def inverse(self) -> MemberStep:
        """Return the step that takes it back."""
        return replace(self, after=not self.after)

    def word(self, names: Names) -> str:
        """Say whom to put where."""
        who = f"the group {self.member_name or self.member}" if self.is_group else self.member
        return f"put {who} into the group {self.name}" if self.after else f"take {who} out of the group {self.name}"

    def to_facts(self) -> dict[str, Any]:
        """Return values of JSON."""
        found = {"group": self.group, "name": self.name, "member": self.member, "is_group": self.is_group}
        return found | {"after": self.after, "member_name": self.member_name}

    @classmethod
    def of_facts(cls, system: str, facts: Mapping[str, Any]) -> Self:
        """Return what `to_facts` made."""
        group, name, member = (str(facts[key]) for key in ("group", "name", "member"))
        called = str(facts.get("member_name", ""))
        return cls(system, group, name, member, bool(facts["is_group"]), bool(facts["after"]), called)
