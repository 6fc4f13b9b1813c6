"""Steps on limits: one set, raised, lowered or taken away, enforced or only watched."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace
from typing import Any, ClassVar, Self

from neatledger.core.lists.contract import Names
from neatledger.core.plan.limits import UNLIMITED, On, Settings
from neatledger.core.space.sizes import show_limit
from neatledger.core.steps.contract import State, Step, misfit
from neatledger.core.survey.limits import FoundLimit
from neatledger.core.tree.address import Address

__all__ = ["LimitStep", "bare"]


def bare(settings: Settings) -> Settings:
    """Return of a limit what a system keeps: its amount, and its rule; without a limit there is no rule."""
    if settings.limit is UNLIMITED:
        return Settings(UNLIMITED)
    return Settings(settings.limit, settings.enforced, None if settings.enforced else settings.grace_days)


@dataclass(frozen=True, slots=True)
class LimitStep(Step):
    """The limit on one folder, person, group or pool, as the system tells it: how it is before and after (`bare`)."""

    kind: ClassVar[str] = "limit"
    on: On
    name: str
    before: Settings
    after: Settings

    @property
    def target(self) -> str:
        """What the limit is on."""
        return self.name if self.on is On.FOLDER else f"{self.on.value} {self.name}"

    @property
    def place(self) -> Address | None:
        """The folder, of a limit on one."""
        return Address(self.system, self.name.encode("utf-8", "surrogateescape")) if self.on is On.FOLDER else None

    def apply(self, state: State) -> None:
        """Set it in a state; where the system tells none there, that is a limit of its own that is not set."""
        limits = [FoundLimit.of_facts(one) for one in state.facts.get("limits", ())]
        numbers = [number for number, one in enumerate(limits) if (one.on, one.name) == (self.on, self.name)]
        if not numbers and self.before.limit is not UNLIMITED:
            raise misfit(self, "the system tells no such limit")
        if not numbers:
            limits.append(FoundLimit(self.on, self.name, UNLIMITED))
        place = numbers[0] if numbers else len(limits) - 1
        found = bare(limits[place].settings)
        if found != self.before:
            is_other_amount = found.limit != self.before.limit
            words = [show_limit(one.limit) if is_other_amount else one.rule for one in (found, self.before)]
            raise misfit(self, f"the limit is {words[0]}, and not {words[1]}")
        after = self.after
        limits[place] = replace(
            limits[place], limit=after.limit, enforced=after.enforced, grace_days=after.grace_days
        )
        if limits[place] == FoundLimit(self.on, self.name, UNLIMITED):
            del limits[place]
        state.facts = {**state.facts, "limits": [each.to_facts() for each in limits]}

    def inverse(self) -> LimitStep:
        """Return the step that takes it back."""
        return LimitStep(self.system, self.on, self.name, self.after, self.before)

    def word(self, names: Names) -> str:
        """Say what to set."""
        if self.after.limit == self.before.limit:
            return f"make the limit of {show_limit(self.after.limit)} {self.after.rule} (now {self.before.rule})"
        is_told = self.after.limit is not UNLIMITED and self.after.rule != self.before.rule
        rule = f", {self.after.rule}" if is_told and (self.before.rule != "-" or not self.after.enforced) else ""
        now = f", {self.before.rule}" if rule and self.before.rule != "-" else ""
        return f"set the limit to {show_limit(self.after.limit)}{rule} (now {show_limit(self.before.limit)}{now})"

    def to_facts(self) -> dict[str, Any]:
        """Return values of JSON: amounts in bytes, or null for no limit; the rules where one is only watched."""
        sides = self.before, self.after
        before, after = (None if one.limit is UNLIMITED else one.limit for one in sides)
        facts = {"on": self.on.value, "name": self.name, "before": before, "after": after}
        if all(one.enforced for one in sides):
            return facts
        return facts | {"enforced": [one.enforced for one in sides], "grace_days": [one.grace_days for one in sides]}

    @classmethod
    def of_facts(cls, system: str, facts: Mapping[str, Any]) -> Self:
        """Return what `to_facts` made."""
        amounts = [UNLIMITED if facts[name] is None else int(facts[name]) for name in ("before", "after")]
        enforced = [bool(one) for one in facts.get("enforced", (True, True))]
        grace = [None if one is None else int(one) for one in facts.get("grace_days", (None, None))]
        before, after = (Settings(*one) for one in zip(amounts, enforced, grace, strict=True))
        return cls(system, On(facts["on"]), str(facts["name"]), before, after)
