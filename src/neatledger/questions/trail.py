"""What was done, by whom and where: the logs that the plan names, read on from where the last reading ended."""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import date, datetime, time, timedelta
from typing import Any, cast

from neatledger.core.trail.folding import Fold, fold
from neatledger.core.trail.records import Did, Position, Record
from neatledger.core.tree.address import Address
from neatledger.errors import NeatError
from neatledger.questions.office import FoundPerson, Office
from neatledger.sources.logs.table import Read, read_log

__all__ = ["LogRead", "Seen", "ask", "read", "systems_with_logs"]

_BATCH = 50_000
_MOST_FAULTS = 5
FOLDED_WITHIN = timedelta(minutes=2)


@dataclass(slots=True)
class LogRead:
    """What the reading of one log came to: `faults`, the first few by file, line and why; `failed`, why it ended."""

    system: str
    file: str
    records: int = 0
    lines: int = 0
    bad_lines: int = 0
    faults: list[tuple[str, int, str]] = field(default_factory=list)
    notes: list[str] = field(default_factory=list)
    failed: str = ""


@dataclass(frozen=True, slots=True)
class Seen:
    """One line of an answer: what was done, and who it was by the ledger's own name."""

    fold: Fold
    who: str


def systems_with_logs(office: Office) -> list[str]:
    """Return the systems whose logs the plan names."""
    return [name for name, system in office.plan.systems.items() if system.settings.get("logs")]


def read(office: Office, now: datetime, progress: Callable[[int], object] = lambda _: None) -> list[LogRead]:
    """Read what is new in every log, and keep it; one that cannot be read does not keep the others from it."""
    found = []
    for name in systems_with_logs(office):
        logs = cast(Sequence[Mapping[str, Any]], office.plan.systems[name].settings["logs"])
        for settings in logs:
            one = LogRead(name, settings["file"])
            try:
                _read_one(office, one, settings, now, progress)
            except NeatError as error:
                one.failed = str(error)
            found.append(one)
    return found


def _read_one(
    office: Office, one: LogRead, settings: Mapping[str, Any], now: datetime, progress: Callable[[int], object]
) -> None:
    trail = office.ledger.trail
    position = trail.position(one.system, one.file)
    waiting: list[Record] = []  # kept with the first position that a new reading may begin from
    for line in read_log(office.folder, settings, position, one.notes):
        _count(one, line)
        if line.record is not None:
            waiting.append(line.record)
        if line.position is not None:
            position = line.position
            if len(waiting) >= _BATCH:
                _keep(office, one, waiting, position, now)
                progress(len(waiting))
                waiting = []
    if position is not None:
        _keep(office, one, waiting, position, now)
        progress(len(waiting))


def _count(one: LogRead, line: Read) -> None:
    one.lines += 1
    if line.fault:
        one.bad_lines += 1
        if len(one.faults) < _MOST_FAULTS:
            one.faults.append((line.file, line.line, line.fault))


def _keep(office: Office, one: LogRead, records: Sequence[Record], position: Position, now: datetime) -> None:
    office.ledger.trail.add(one.system, one.file, records, position, now)
    one.records += len(records)


def ask(
    office: Office,
    person: FoundPerson | None = None,
    below: Address | None = None,
    since: date | None = None,
    until: date | None = None,
    did: Collection[Did] = (),
    *,
    is_refused: bool = False,
    is_folded: bool = True,
) -> list[Seen]:
    """Return what was done, the oldest first, folded where the same was done again within two minutes.

    Days are local ones, both included.
    """
    records = office.ledger.trail.records(
        logins=None if person is None else _logins(office, person),
        below=None if below is None else [below],
        dids=did or None,
        since=None if since is None else _midnight(since),
        until=None if until is None else _midnight(until + timedelta(days=1)),
    )
    wanted = ((system, one) for system, one in records if not (is_refused and one.is_done))
    whose = _whose(office)
    folds = fold(wanted, FOLDED_WITHIN if is_folded else timedelta(seconds=-1))
    return [Seen(one, whose.get((one.system, one.first.who.casefold()), one.first.who)) for one in folds]


def _midnight(day: date) -> datetime:
    return datetime.combine(day, time.min).astimezone()


def _logins(office: Office, person: FoundPerson) -> set[tuple[str, str]]:
    """Return the logins of a person by system: those that are there, and those that the plan gives them."""
    found = {(system, one.account.login) for system, some in person.principals.items() for one in some}
    planned = office.plan.people.get(person.id)
    return found | set(_planned_logins(planned.accounts) if planned is not None else ())


def _planned_logins(accounts: Mapping[str, Sequence[str]]) -> Iterator[tuple[str, str]]:
    for system, logins in accounts.items():
        yield from ((system, login) for login in logins)


def _whose(office: Office) -> dict[tuple[str, str], str]:
    """Return system and login, in small letters → the person."""
    found = {
        (system, login.casefold()): ident
        for ident, person in office.plan.people.items()
        for system, login in _planned_logins(person.accounts)
    }
    if office.has_count:
        for some in office.systems.holders.values():
            found |= {(one.system, one.account.login.casefold()): one.person for one in some}
    return found
