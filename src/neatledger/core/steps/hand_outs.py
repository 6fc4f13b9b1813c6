"""Steps on hand-outs: ended, or shortened."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

from neatledger.core.lists.contract import Names
from neatledger.core.steps.sharing import RecordStep
from neatledger.core.survey.shared import HandOut
from neatledger.core.tree.address import Address

__all__ = ["HandOutStep"]


@dataclass(frozen=True, slots=True)
class HandOutStep(RecordStep):
    """One thing that somebody handed to somebody."""

    kind: ClassVar[str] = "hand-out"
    record: ClassVar[type] = HandOut
    table: ClassVar[str] = "hand_outs"

    @property
    def target(self) -> str:
        """The hand-out's name in the service."""
        return f"hand-out {self._either.id}"

    @property
    def place(self) -> Address:
        """What was handed out."""
        return Address(self.system, self._either.path)

    def word(self, names: Names) -> str:
        """Say what to do with it."""
        one = self._either
        whom = f"from {one.giver or 'somebody not told'} to {one.receiver}"
        if self.after is None:
            return f"end the hand-out {one.id} {whom}"
        if self.before is None:
            return f"hand it out {whom}"
        parts = []
        if self.before.expires != self.after.expires:
            parts.append(f"let it end on {self.after.expires}" if self.after.expires else "let it have no end")
        if self.before.rights != self.after.rights:
            parts.append("let it give less" if self.after.rights & ~self.before.rights == 0 else "let it give more")
        if self.before.download != self.after.download:
            parts.append("allow downloading" if self.after.download else "allow no downloading")
        return f"hand-out {one.id} {whom}: {', '.join(parts) or 'change it'}"
