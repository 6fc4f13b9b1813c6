"""What a probe is handed, and what it proposes."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any, Protocol

from neatledger.core.people.credentials import Credentials

__all__ = ["Hints", "Probe", "Proposal"]


@dataclass(frozen=True, slots=True)
class Hints:
    """What the person said beside the address, and how more of it is asked.

    `said` is by option (user, ca, base, shares, homes, token, accounts, plain …); `ask` puts a question on the
    terminal and returns the answer, or nothing where nobody is there to be asked; `credentials` gives the name and
    the password for a user of a host, `account_credentials` where accounts are kept.
    """

    system: str
    office_dir: Path
    said: Mapping[str, Any]
    ask: Callable[[str], str]
    credentials: Callable[[str, str], Credentials]
    account_credentials: Callable[[str, str], Credentials]

    def text(self, name: str, question: str = "") -> str:
        """Return what was said under a name; else what is answered, where a question is given."""
        said = self.said.get(name)
        if said:
            return str(said)
        return self.ask(question).strip() if question else ""


@dataclass
class Proposal:
    """One system of the plan as it would be written: its settings, why each, and what else was seen there.

    `lacking` is what could not be known, and nobody said; `columns` says of a listing which of its columns is taken
    for which of ours, with examples and how sure that is.
    """

    settings: dict[str, Any]
    comments: dict[str, str] = field(default_factory=dict)
    notes: list[str] = field(default_factory=list)
    lacking: list[str] = field(default_factory=list)
    columns: list[Any] = field(default_factory=list)

    def put(self, key: str, value: Any, why: str = "") -> None:
        """Put a setting, and say why."""
        self.settings[key] = value
        if why:
            self.comments[key] = why


class Probe(Protocol):
    """Looks at an address; raises `SourceError` where nothing is there, or it cannot be asked."""

    def __call__(self, address: str, hints: Hints) -> Proposal: ...
