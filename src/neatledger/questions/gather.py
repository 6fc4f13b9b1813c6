"""Look at the systems of the plan, and keep a dated count of them."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from contextlib import AbstractContextManager
from dataclasses import dataclass
from datetime import datetime
from typing import Any, Protocol

from neatledger.core.people.credentials import Credentials
from neatledger.core.survey.survey import Survey
from neatledger.extras import extras_for
from neatledger.questions.office import Office
from neatledger.sources.contract import SourceContext
from neatledger.sources.limits import add_limits
from neatledger.sources.table import load_source

__all__ = ["Gathered", "Watch", "ask", "read_system"]

AskCredentials = Callable[[str, str], Credentials]


class Watch(Protocol):
    """Follows the reading of one system: is called with the entries read since the last call."""

    @property
    def seconds(self) -> float:
        """How long it has taken by now."""

    def __call__(self, entries: int) -> None: ...


@dataclass(frozen=True, slots=True)
class Gathered:
    """A count that was kept, with what was seen of every system, and how long that took."""

    count: int
    surveys: Sequence[Survey]
    seconds: Mapping[str, float]


def read_system(
    office: Office,
    name: str,
    settings: Mapping[str, Any],
    source: str,
    credentials: AskCredentials,
    progress: Callable[[int], None] = lambda _: None,
) -> Survey:
    """Read one system by a source; raises `SourceError` where it cannot be read at all."""
    context = SourceContext(name, office.folder, settings, office.today, progress, credentials)
    with extras_for(name):
        survey = load_source(source)(context)
        add_limits(survey, context)
    return survey


def ask(
    office: Office,
    moment: datetime,
    tool: str,
    credentials_for: Callable[[str], AskCredentials],
    watch: Callable[[str], AbstractContextManager[Watch]],
    begun: Callable[[], object] = lambda: None,
) -> Gathered:
    """Gather every system of the plan; the count is stored whole, at the end, or not at all.

    Arguments: when the count is taken and by which version; what gives a system's credentials; what follows the
    reading of one; `begun` is called right before the writing.
    """
    surveys: list[Survey] = []
    seconds: dict[str, float] = {}
    for name, system in office.plan.systems.items():
        with watch(name) as progress:
            surveys.append(read_system(office, name, system.settings, system.source, credentials_for(name), progress))
            seconds[name] = progress.seconds
    ledger = office.open_ledger(create=True)
    count = ledger.add_count(surveys, moment, tool, begun)
    return Gathered(count, surveys, seconds)
