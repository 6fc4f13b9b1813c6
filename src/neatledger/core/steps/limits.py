"""Steps on limits: one set, raised, lowered or taken away."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace
from typing import Any, ClassVar, Self

from neatledger.core.lists.contract import Names
from neatledger.core.plan.limits import UNLIMITED, Limit, On
from neatledger.core.space.sizes import show_limit
from neatledger.core.steps.contract import State, Step, misfit
from neatledger.core.survey.limits import FoundLimit
from neatledger.core.tree.address import Address

__all__ = ["LimitStep"]


@dataclass(frozen=True, slots=True)
class LimitStep(Step):
    """The limit on one folder, person, group or pool, as the system tells it."""

    kind: ClassVar[str] = "limit"
    on: On
    name: str
    before: Limit
    after: Limit

    @property
    def target(self) -> str:
        """What the limit is on."""
        return self.name if self.on is On.FOLDER else f"{self.on.value} {self.name}"

    @property
    def place(self) -> Address | None:
        """The folder, of a limit on one."""
        return Address(self.system, self.name.encode("utf-8", "surrogateescape")) if self.on is On.FOLDER else None

    def apply(self, state: State) -> None:
        """Set it in a state."""
        limits = [FoundLimit.of_facts(one) for one in state.facts.get("limits", ())]
        for place, one in enumerate(limits):
            if (one.on, one.name) == (self.on, self.name):
                if one.limit != self.before:
                    raise misfit(self, f"the limit is {show_limit(one.limit)}, and not {show_limit(self.before)}")
                limits[place] = replace(one, limit=self.after)
                state.facts = {**state.facts, "limits": [each.to_facts() for each in limits]}
                return
        raise misfit(self, "the system tells no such limit")

    def inverse(self) -> LimitStep:
        """Return the step that takes it back."""
        return LimitStep(self.system, self.on, self.name, self.after, self.before)

    def word(self, names: Names) -> str:
        """Say what to set."""
        return f"set the limit to {show_limit(self.after)} (now {show_limit(self.before)})"

    def to_facts(self) -> dict[str, Any]:
        """Return values of JSON: an amount in bytes, or null for no limit."""
        before, after = (None if one is UNLIMITED else one for one in (self.before, self.after))
        return {"on": self.on.value, "name": self.name, "before": before, "after": after}

    @classmethod
    def of_facts(cls, system: str, facts: Mapping[str, Any]) -> Self:
        """Return what `to_facts` made."""
        amounts = (UNLIMITED if facts[name] is None else int(facts[name]) for name in ("before", "after"))
        return cls(system, On(facts["on"]), str(facts["name"]), *amounts)
