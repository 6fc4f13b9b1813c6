"""The logs that the plan names, read on from where the last reading ended, and kept: each line once."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Collection, Sequence
from dataclasses import dataclass, field
from datetime import datetime, timedelta
from typing import TYPE_CHECKING

from neatledger.core.people.credentials import Credentials
from neatledger.core.trail.coverage import Gap
from neatledger.core.trail.records import Position, Record
from neatledger.errors import NeatError, SourceError
from neatledger.questions.lognames import logs_in, name_of, systems_with_logs
from neatledger.questions.office import Office
from neatledger.sources.contract import SourceContext
from neatledger.sources.logs.table import Read, Reading, read_log

if TYPE_CHECKING:
    from neatledger.ledger.trail.trail import Trail

__all__ = ["LogRead", "read"]

_BATCH = 3 * 16_384  # whole blocks of the ledger
_MOST_FAULTS = 5


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


AskCredentials = Callable[[str, str], Credentials]


def _no_credentials(_: str) -> AskCredentials:
    def refuse(_user: str, host: str) -> Credentials:
        raise SourceError("nobody was asked for a password", host)

    return refuse


def read(
    office: Office,
    now: datetime,
    progress: Callable[[int], object] = lambda _: None,
    credentials_for: Callable[[str], AskCredentials] = _no_credentials,
    systems: Collection[str] | None = None,
) -> list[LogRead]:
    """Read what is new in every log, or in those of some systems, and keep it.

    One that cannot be read does not keep the others from it.
    """
    found = []
    for name in systems_with_logs(office):
        if systems is not None and name not in systems:
            continue
        settings = office.plan.systems[name].settings
        context = SourceContext(
            name, office.folder, settings, office.today, lambda _: None, credentials_for(name),
            account_credentials=credentials_for(f"{name} accounts"),
        )  # fmt: skip
        names: set[str] = set()
        for log in logs_in(settings):
            one = LogRead(name, name_of(log))
            try:
                if one.file in names:
                    raise SourceError("the plan names this log twice", one.file)
                names.add(one.file)
                trail = office.ledger.trail
                known, position = trail.last_known(name, one.file), trail.position(name, one.file)
                reading = Reading(context, log, position, None if known is None else known[0])
                _read_one(office, one, reading, now, progress)
            except NeatError as error:
                one.failed = str(error)
            found.append(one)
    return found


def _read_one(
    office: Office, one: LogRead, reading: Reading, now: datetime, progress: Callable[[int], object]
) -> None:
    position, trail = reading.position, office.ledger.trail
    replays = _Replays(office, one)
    before = position  # what the ledger must say still when something is kept
    waiting: list[Record] = []  # kept with the first position that a new reading may begin from
    first: datetime | None = None
    for line in read_log(reading):
        _count(one, line)
        if line.record is not None and not replays.is_one(line):
            waiting.append(line.record)
            first = first or line.record.moment
        if line.position is not None:
            position = line.position
            if len(waiting) >= _BATCH:
                _keep(trail, one, waiting, position, before, now)
                before = position
                progress(len(waiting))
                waiting = []
    if position is not None:
        gap = _gap(reading.lost, replays.known, first, now)
        _keep(trail, one, waiting, position, before, now, gap)
        progress(len(waiting))
    one.notes = [*reading.lost, *reading.notes]
    if replays.number:
        one.notes.append(f"{replays.number:,} records of a time that was read before were left out")


def _gap(
    lost: Sequence[str], known: tuple[datetime, datetime] | None, first: datetime | None, now: datetime
) -> Gap | None:
    """Return the time of which records are missing, where the reading found that some are."""
    if not lost:
        return None
    begin = known[0] if known is not None else now
    return Gap(min(begin, first or now), first or now, "; ".join(lost))


class _Replays:
    """Tells records that come again in another file: a log that was put in place of the old one adds nothing old."""

    def __init__(self, office: Office, one: LogRead) -> None:
        self.number = 0
        self.known = office.ledger.trail.last_known(one.system, one.file)
        self._office, self._system = office, one.system
        self._kept: Counter[Record] | None = None

    def is_one(self, line: Read) -> bool:
        record = line.record
        if record is None or self.known is None or not line.is_anew:
            return False
        # A record with a day in the future covers nothing: what was read is what there was at the reading.
        until = min(self.known)
        if record.moment > until:
            return False
        is_old = line.is_other and record.moment < until.replace(microsecond=0)
        if is_old or self._is_kept(record, until):
            self.number += 1
            return True
        return False

    def _is_kept(self, record: Record, until: datetime) -> bool:
        if self._kept is None:
            kept = self._office.ledger.trail.records(
                since=record.moment - timedelta(days=1), until=until + timedelta(seconds=1)
            )
            self._kept = Counter(one for system, one in kept if system == self._system)
        one = record._replace(moment=record.moment.replace(microsecond=0))
        self._kept[one] -= 1
        return self._kept[one] >= 0


def _count(one: LogRead, line: Read) -> None:
    one.lines += 1
    if line.fault:
        one.bad_lines += 1
        if len(one.faults) < _MOST_FAULTS:
            one.faults.append((line.file, line.line, line.fault))


def _keep(
    trail: Trail,
    one: LogRead,
    records: Sequence[Record],
    position: Position,
    before: Position | None,
    now: datetime,
    gap: Gap | None = None,
) -> None:
    trail.add(one.system, one.file, records, position, before, now, gap)
    one.records += len(records)
