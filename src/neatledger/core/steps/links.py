"""Steps on links: ended, shortened, guarded."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

from neatledger.core.lists.contract import Names
from neatledger.core.steps.sharing import RecordStep
from neatledger.core.survey.shared import Link
from neatledger.core.tree.address import Address

__all__ = ["LinkStep"]


@dataclass(frozen=True, slots=True)
class LinkStep(RecordStep):
    """One link; its address is no part of it."""

    kind: ClassVar[str] = "link"
    record: ClassVar[type] = Link
    table: ClassVar[str] = "links"

    @property
    def target(self) -> str:
        """The link's name in the service."""
        return f"link {self._either.id}"

    @property
    def place(self) -> Address:
        """What it leads to."""
        return Address(self.system, self._either.path)

    def word(self, names: Names) -> str:
        """Say what to do with it."""
        if self.after is None:
            return f"end the link {self._either.id}"
        if self.before is None:
            return f"make the link {self.after.id}"
        parts = []
        if self.before.is_on != self.after.is_on:
            parts.append("switch it on" if self.after.is_on else "switch it off")
        if self.before.expires != self.after.expires:
            parts.append(f"let it end on {self.after.expires}" if self.after.expires else "let it have no end")
        if self.before.password != self.after.password:
            parts.append("guard it with a password" if self.after.password else "take its password away")
        if self.before.rights != self.after.rights:
            parts.append("let it give less" if self.after.rights & ~self.before.rights == 0 else "let it give more")
        gone = [one for one in self.before.named if one not in self.after.named]
        parts += [f"let it be for {', '.join(gone)} no more"] if gone else []
        if self.before.download != self.after.download:
            parts.append("allow downloading" if self.after.download else "allow no downloading")
        return f"link {self.after.id}: {', '.join(parts) or 'change it'}"
