"""Look at the systems of the plan, and keep a dated count of them."""

from __future__ import annotations

import sys
from collections.abc import Callable, Mapping, Sequence
from contextlib import AbstractContextManager, closing
from dataclasses import dataclass
from datetime import datetime
from pathlib import Path
from tempfile import TemporaryDirectory
from typing import IO, Any, Protocol

from neatledger.core.people.credentials import Credentials
from neatledger.core.survey.survey import Survey
from neatledger.errors import NeatError, SourceError
from neatledger.extras import extras_for
from neatledger.formats.ownfaults import spell_own_fault
from neatledger.ledger.opening import open_ledger
from neatledger.questions.office import LEDGER_NAME, Office
from neatledger.sources.contract import SourceContext, Workers
from neatledger.sources.limits import add_limits
from neatledger.sources.protection import add_protection
from neatledger.sources.table import load_source

__all__ = ["Gathered", "Target", "Watch", "ask", "read_system"]

AskCredentials = Callable[[str, str], Credentials]


class Watch(Protocol):
    """Follows the reading of one system: is called with the entries read since the last call."""

    @property
    def seconds(self) -> float:
        """How long it has taken by now."""

    def __call__(self, entries: int) -> None: ...
    def tell(self, text: str) -> None:
        """Say what is being waited for."""


@dataclass(frozen=True, slots=True)
class Gathered:
    """What was seen of every system that could be read, how long that took, and why the others could not.

    `count` is the number of the count that was kept, None where no system could be read, or where it went into a
    file: then `digest` is that file's.
    """

    count: int | None
    surveys: Sequence[Survey]
    seconds: Mapping[str, float]
    failed: Mapping[str, NeatError]
    digest: str = ""


@dataclass(frozen=True, slots=True)
class Target:
    """A file that a count goes into, and what signs it (None: nothing does)."""

    out: IO[bytes]
    signed: Callable[[bytes], str] | None = None


def read_system(
    office: Office,
    name: str,
    settings: Mapping[str, Any],
    source: str,
    credentials: AskCredentials,
    progress: Callable[[int], None] = lambda _: None,
    tell: Callable[[str], None] = lambda _: None,
    account_credentials: AskCredentials | None = None,
    workers: Workers | None = None,
) -> Survey:
    """Read one system by a source; raises `SourceError` where it cannot be read at all."""
    context = SourceContext(
        name, office.folder, settings, office.today, progress, credentials, tell, account_credentials, workers
    )
    with extras_for(name):
        survey = load_source(source)(context)
        add_limits(survey, context)
        add_protection(survey, context)
    return survey


def _failure(error: Exception) -> NeatError:
    """Return why a system was not read, of an error that nobody put into words."""
    if sys.flags.dev_mode:
        raise error
    if isinstance(error, MemoryError):
        return SourceError("there is not enough memory to read it", hint="read it in parts, as systems of their own")
    if isinstance(error, OSError):
        return SourceError(f"it cannot be read: {error.strerror or error}", str(error.filename or ""))
    return SourceError(spell_own_fault(error, "nothing of it was kept"))


def ask(
    office: Office,
    moment: datetime,
    tool: str,
    credentials_for: Callable[[str], AskCredentials],
    watch: Callable[[str], AbstractContextManager[Watch]],
    begun: Callable[[], object] = lambda: None,
    systems: Sequence[str] = (),
    target: Target | None = None,
) -> Gathered:
    """Gather the systems of the plan, or some; of each all is stored, at the end, or nothing.

    Arguments: when the count is taken and by which version; what gives a system's credentials; what follows the
    reading of one; `begun` is called right before the writing; with a `target` the count goes into a file, and no
    ledger is asked. Trees are shared out where the office has workers; whatever must be signed in to is read here: no
    worker has a password. A system that cannot be read, or goes away while it is, does not keep the others from being
    counted. Raises `UnknownNameError`.
    """
    systems = [office.find_system(name) for name in systems]
    surveys: list[Survey] = []
    seconds: dict[str, float] = {}
    failed: dict[str, NeatError] = {}
    wanted = {name: one for name, one in office.plan.systems.items() if not systems or name in systems}
    for name, system in wanted.items():
        with watch(name) as progress:
            try:
                found = read_system(
                    office,
                    name,
                    system.settings,
                    system.source,
                    credentials_for(name),
                    progress,
                    progress.tell,
                    credentials_for(f"{name} accounts"),
                    office.workers,
                )
            except NeatError as error:
                failed[name] = error
                continue
            except Exception as error:  # whatever it is, the others are read all the same
                failed[name] = _failure(error)
                continue
            surveys.append(found)
            seconds[name] = progress.seconds
    if not surveys:
        return Gathered(None, surveys, seconds, failed)
    if target is not None:
        return Gathered(None, surveys, seconds, failed, _write(office, surveys, moment, tool, target))
    with closing(office.books.open_ledger(create=True)) as ledger:
        count = ledger.add_count(surveys, moment, tool, begun)
    return Gathered(count, surveys, seconds, failed)


def _write(office: Office, surveys: Sequence[Survey], moment: datetime, tool: str, target: Target) -> str:
    """Write a count into a file, by way of a ledger that nobody sees; returns its digest."""
    with (
        TemporaryDirectory(prefix="neatledger-") as folder,
        closing(open_ledger(Path(folder) / LEDGER_NAME, create=True)) as ledger,
    ):
        count = ledger.add_count(surveys, moment, tool)
        return ledger.write_count(count, office.plan.office, target.out, target.signed)
