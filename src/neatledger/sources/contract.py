"""What every source offers, and what it is handed."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import date
from pathlib import Path
from typing import Any, Protocol, TypeVar

from neatledger.core.people.credentials import Credentials
from neatledger.core.survey.survey import Survey

__all__ = ["Source", "SourceContext"]


A = TypeVar("A")
R = TypeVar("R")


class Workers(Protocol):
    """Does parts of a work elsewhere."""

    def each(self, task: Callable[[A], R], items: Sequence[A], /) -> Iterator[R]:
        """Yield what a task makes of each item, in their order."""


@dataclass(frozen=True, slots=True)
class SourceContext:
    """What a source may use: the office's folder, its settings from the plan, today, and progress.

    `progress` is called with the number of entries read since its last call; `credentials` gives the name
    and the password for a user of a host, and raises `SourceError` where there is none; `account_credentials` does
    where accounts are kept, if that is another one's. `tell` is called with what
    is being waited for. `workers` read parts of a system, where it is not read here alone.
    """

    system: str
    office_dir: Path
    settings: Mapping[str, Any]
    today: date
    progress: Callable[[int], None]
    credentials: Callable[[str, str], Credentials]
    tell: Callable[[str], None] = lambda _: None
    account_credentials: Callable[[str, str], Credentials] | None = None
    workers: Workers | None = None

    def for_accounts(self) -> SourceContext:
        """Return the same, with the names and passwords for where accounts are kept."""
        return replace(self, credentials=self.account_credentials or self.credentials)


class Source(Protocol):
    """A source reads one system whole; raises `SourceError` where it cannot be read at all."""

    def __call__(self, context: SourceContext) -> Survey: ...
