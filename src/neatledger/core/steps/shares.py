"""Steps on shares: their permission and their switches."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any, ClassVar, Self

from neatledger.core.access.shares import Share
from neatledger.core.lists.contract import Names
from neatledger.core.steps.contract import State, Step, misfit
from neatledger.core.steps.lists import list_changes

__all__ = ["ShareStep"]


@dataclass(frozen=True, slots=True)
class ShareStep(Step):
    """What one share lets through, whole; its name and folder stay."""

    kind: ClassVar[str] = "share"
    before: Share
    after: Share

    @property
    def target(self) -> str:
        """The share's name."""
        return self.before.name

    def apply(self, state: State) -> None:
        """Set it in a state."""
        shares = list(state.facts.get("shares") or ())
        for place, one in enumerate(shares):
            if one["name"] == self.before.name:
                if Share.of_facts(one) != self.before:
                    raise misfit(self, "its permission or its switches are others")
                shares[place] = self.after.to_facts()
                state.facts = {**state.facts, "shares": shares}
                return
        raise misfit(self, "the share is not there")

    def inverse(self) -> ShareStep:
        """Return the step that takes it back."""
        return ShareStep(self.system, self.after, self.before)

    def word(self, names: Names) -> str:
        """Say what to change."""
        parts = []
        if self.before.body != self.after.body:
            parts += list_changes("nt", self.before.body, self.after.body, names)
        if self.before.read_only != self.after.read_only:
            parts.append("make it read-only" if self.after.read_only else "let people write in it")
        for name, what in (("enters", "who may come in"), ("writers", "who may write though it is read-only")):
            if getattr(self.before, name) != getattr(self.after, name):
                some = getattr(self.after, name)
                parts.append(
                    f"{what}: {'all' if some is None else ', '.join(map(names.holder, sorted(some))) or '-'}"
                )
        return f"on the share {self.before.name}: {'; '.join(parts) or 'nothing'}"

    def to_facts(self) -> dict[str, Any]:
        """Return values of JSON."""
        return {"before": self.before.to_facts(), "after": self.after.to_facts()}

    @classmethod
    def of_facts(cls, system: str, facts: Mapping[str, Any]) -> Self:
        """Return what `to_facts` made."""
        return cls(system, Share.of_facts(facts["before"]), Share.of_facts(facts["after"]))
