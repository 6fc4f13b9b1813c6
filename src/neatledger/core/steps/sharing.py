"""What steps on shared things have in common: a record, there before and after or at one side."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace
from typing import Any, ClassVar, Self

from neatledger.core.steps.contract import State, Step, misfit
from neatledger.core.survey.shared import record_of_facts, record_to_facts

__all__ = ["RecordStep"]


@dataclass(frozen=True, slots=True)
class RecordStep(Step):
    """One record of what a service shares: `before` None makes it, `after` None takes it away.

    A kind says which record it is (`record`), in which table of the service it stands, and by what it is known.
    """

    record: ClassVar[type]
    table: ClassVar[str]
    before: Any
    after: Any

    @property
    def _either(self) -> Any:
        return self.after if self.before is None else self.before

    @classmethod
    def key(cls, record: Any) -> Any:
        """Return by what a record is known in its table."""
        return record.id

    def apply(self, state: State) -> None:
        """Set it in a state."""
        if state.shared is None:
            raise misfit(self, "the system shares nothing beside its lists")
        records = list(getattr(state.shared, self.table))
        known = self.key(self._either)
        places = [place for place, one in enumerate(records) if self.key(one) == known]
        if self.before is None:
            if places:
                raise misfit(self, "it is there already")
            records.append(self.after)
        elif not places:
            raise misfit(self, "it is not there any more")
        elif records[places[0]] != self.before:
            raise misfit(self, "it is not as it was")
        elif self.after is None:
            del records[places[0]]
        else:
            records[places[0]] = self.after
        changed: Any = {self.table: tuple(records)}
        state.shared = replace(state.shared, **changed)

    def inverse(self) -> Self:
        """Return the step that takes it back."""
        return replace(self, before=self.after, after=self.before)

    def to_facts(self) -> dict[str, Any]:
        """Return values of JSON."""
        return {
            name: None if one is None else record_to_facts(one)
            for name, one in (("before", self.before), ("after", self.after))
        }

    @classmethod
    def of_facts(cls, system: str, facts: Mapping[str, Any]) -> Self:
        """Return what `to_facts` made."""
        before, after = (
            None if facts[name] is None else record_of_facts(cls.record, facts[name]) for name in ("before", "after")
        )
        if before is None and after is None:
            raise ValueError("a step has something before it or after it")
        return cls(system, before, after)
