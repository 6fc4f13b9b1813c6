"""The trail in the ledger: what was done, each record once, in blocks; with how far each log was read."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from dataclasses import dataclass
from datetime import UTC, datetime

import numpy as np

from neatledger.core.trail.coverage import Coverage, Gap, common_coverage
from neatledger.core.trail.moves import Move, Moves
from neatledger.core.trail.records import Did, Position, Record, Severity
from neatledger.core.trail.table import TrailTable
from neatledger.core.tree.address import Address
from neatledger.errors import LedgerError
from neatledger.ledger.chain import Chain, Subject
from neatledger.ledger.engines.contract import ENGINE_ERRORS, Database
from neatledger.ledger.trail.blocks import More, Rows
from neatledger.ledger.trail.columns import read_table
from neatledger.ledger.trail.keeping import Forgotten, Thinned, forget, thin, write_rows
from neatledger.ledger.trail.selecting import Selection, origins_of, select
from neatledger.ledger.trail.words import DIDS, DONE, FOLDER, NUMBERS, Numbers, clean, reading, seal_word
from neatledger.ledger.writing import transaction

__all__ = ["Covered", "Trail"]

_MOST_KNOWN = 500_000  # numbers that are remembered from one writing to the next


@dataclass(frozen=True, slots=True)
class Covered:
    """What is kept of one system: the first and the last moment (UTC), and how many rows and records."""

    first: datetime
    last: datetime
    rows: int


class Trail:
    """The trail of an open ledger."""

    def __init__(self, connection: Database, where: str) -> None:
        self._db, self._where = connection, where
        self._known: dict[str, Numbers] = {}

    def position(self, system: str, file: str) -> Position | None:
        """Return how far a log was read; None where it never was."""
        row = self._db.execute(
            'SELECT head, head_length, "offset", lines FROM trail_logs WHERE system = ? AND file = ?', (system, file)
        ).fetchone()
        return None if row is None else Position(*row)

    def add(
        self,
        system: str,
        file: str,
        records: Sequence[Record],
        position: Position,
        before: Position | None,
        moment: datetime,
        gap: Gap | None = None,
    ) -> None:
        """Keep records with how far their log was read by then, all or nothing; raises `LedgerError`.

        `before` is how far the log was read when this reading began: where another run has read on since, nothing is
        kept. `gap` is a time of which records are missing, as this reading showed.
        """
        with self._writing():
            if self.position(system, file) != before:
                hint = "what it read is kept; nothing is lost"
                raise LedgerError("another run has read this log meanwhile", file, hint)
            self._insert(system, records)
            if gap is not None:
                span = int(gap.after.timestamp()), int(gap.before.timestamp())
                self._db.execute(
                    'INSERT INTO trail_gaps (system, file, "after", "before", why) VALUES (?, ?, ?, ?, ?)',
                    (system, file, *span, gap.why),
                )
                Chain(self._db, self._where).add_rows(Subject.TRAIL_GAPS, 1)
            moments = [int(one.moment.timestamp()) for one in records]
            self._db.execute(
                "INSERT INTO trail_logs"
                ' (system, file, head, head_length, "offset", lines, first_moment, last_moment, read_at)'
                " VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?) ON CONFLICT (system, file) DO UPDATE SET"
                ' head = excluded.head, head_length = excluded.head_length, "offset" = excluded."offset",'
                " lines = excluded.lines,"
                " first_moment = CASE WHEN excluded.first_moment >= trail_logs.first_moment"
                " THEN trail_logs.first_moment ELSE coalesce(excluded.first_moment, trail_logs.first_moment) END,"
                " last_moment = CASE WHEN excluded.last_moment <= trail_logs.last_moment"
                " THEN trail_logs.last_moment ELSE coalesce(excluded.last_moment, trail_logs.last_moment) END,"
                " read_at = excluded.read_at",
                (
                    *(system, file, position.head, position.head_length, position.offset, position.lines),
                    *(min(moments, default=None), max(moments, default=None)),
                    moment.astimezone(UTC).isoformat(timespec="seconds"),
                ),
            )

    @contextmanager
    def _writing(self) -> Iterator[None]:
        try:
            with transaction(self._db):
                yield
        except BaseException as error:
            # What was numbered is not there any more.
            self._known.clear()
            if not isinstance(error, ENGINE_ERRORS):
                raise
            what = "the disk is full" if "full" in str(error) else str(error)
            raise LedgerError(f"the trail cannot be kept: {what}", self._where) from error

    def _insert(self, system: str, records: Iterable[Record]) -> None:
        """Write records of one system in the order of time, with what they are the first to name."""
        ordered = sorted(records, key=lambda one: one.moment)
        if not ordered:
            return
        if not self._known or sum(map(len, self._known.values())) > _MOST_KNOWN:
            self._known = {
                "words": Numbers(self._db, "trail_words", "system, text", seal_word),
                "folders": Numbers(self._db, "trail_folders", "system, path"),
                "deeds": Numbers(self._db, "trail_deeds", "who, did, state, address, device"),
            }
        words, folders, deeds = (self._known[one] for one in ("words", "folders", "deeds"))
        known: dict[tuple[object, ...], int] = {}  # what a deed is made of → its number
        moments, deed_numbers, folder_numbers, names = list[int](), list[int](), list[int](), list[bytes]()
        more: dict[int, More] = {}
        for row, (moment, who, did, path, to, is_done, is_folder, address, device, detail, _) in enumerate(ordered):
            moments.append(int(moment.timestamp()))
            key = who, did, is_done, is_folder, address, device
            number = known.get(key)
            if number is None:
                state = DONE * is_done + FOLDER * is_folder
                places = (words["", address] if address else 0), (words["", device] if device else 0)
                known[key] = number = deeds[words[system, who], NUMBERS[did], state, *places]
            deed_numbers.append(number)
            folder, _, name = path.rpartition(b"/")
            folder_numbers.append(folders[system, folder or b"/"] if path else 0)
            names.append(name)
            if to or detail:
                dest, _, dest_name = to.rpartition(b"/")
                more[row] = More(folders[system, dest or b"/"] if to else 0, dest_name, clean(detail))
        self._note_moves(system, ordered)
        for some in (words, folders, deeds):
            some.seal(Chain(self._db, self._where))
        rows = Rows(
            np.array(moments, np.int64), np.array(deed_numbers, np.uint32), np.array(folder_numbers, np.uint32),
            names, more,
        )  # fmt: skip
        write_rows(self._db, self._where, system, rows)

    def _note_moves(self, system: str, records: Iterable[Record]) -> None:
        """Keep where folders were moved: what is known to be one, or something was done in it before."""
        within = "SELECT 1 FROM trail_folders WHERE system = ? AND (path = ? OR (path > ? AND path < ?)) LIMIT 1"
        moves = [
            (system, int(one.moment.timestamp()), one.path, one.to)
            for one in records
            if one.did is Did.RENAME and one.is_done and one.to and one.path != one.to
            and (
                one.is_folder
                # "/" comes before "0": the names between are those below the folder.
                or self._db.execute(within, (system, one.path, one.path + b"/", one.path + b"0")).fetchone()
            )
        ]  # fmt: skip
        self._db.executemany("INSERT INTO trail_moves (system, moment, source, dest) VALUES (?, ?, ?, ?)", moves)
        if moves:
            Chain(self._db, self._where).add_rows(Subject.TRAIL_MOVES, len(moves))

    def moves(self, system: str) -> Moves:
        """Return where folders of a system were moved, as far as records tell."""
        query = "SELECT moment, source, dest FROM trail_moves WHERE system = ?"
        return Moves(Move(*row) for row in self._db.execute(query, (system,)))

    def coverage(self, system: str, files: Collection[str]) -> Coverage | None:
        """Return what some logs of a system cover together; None where one of them was never read."""
        gaps: dict[str, list[Gap]] = {}
        query = 'SELECT file, "after", "before", why FROM trail_gaps WHERE system = ?'
        for file, after, before, why in self._db.execute(query, (system,)):
            gaps.setdefault(file, []).append(Gap(_moment(after), _moment(before), why))
        dids = frozenset(
            DIDS[did]
            for (did,) in self._db.execute(
                "SELECT DISTINCT did FROM trail_deeds WHERE who IN (SELECT id FROM trail_words WHERE system = ?)",
                (system,),
            )
        )
        query = "SELECT file, first_moment, read_at FROM trail_logs WHERE system = ? AND first_moment IS NOT NULL"
        found = {
            file: Coverage(_moment(first), datetime.fromisoformat(read), tuple(gaps.get(file, ())), dids)
            for file, first, read in self._db.execute(query, (system,))
        }
        return common_coverage([found[one] for one in files]) if files and set(files) <= found.keys() else None

    def last_known(self, system: str, file: str) -> tuple[datetime, datetime] | None:
        """Return the last moment that a log told of, and when it was last read (UTC); None where it never was."""
        row = self._db.execute(
            "SELECT last_moment, read_at FROM trail_logs WHERE system = ? AND file = ?", (system, file)
        ).fetchone()
        return None if row is None or row[0] is None else (_moment(row[0]), datetime.fromisoformat(row[1]))

    def thin(self, system: str, now: datetime, days: Mapping[Did, int], sum_days: int) -> Thinned:
        """Add up the records of a system that are older than their kind is kept; raises `LedgerError`."""
        with self._writing():
            return thin(self._db, self._where, system, now, days, sum_days)

    def forget(self, logins: Collection[tuple[str, str]]) -> Forgotten:
        """Remove the records of some logins, and leave their sums under nobody's name; raises `LedgerError`."""
        # What was there must not be found in the free pages of the file.
        self._db.overwrite_deleted()
        with self._writing():
            return forget(self._db, self._where, logins)

    def take_over(self) -> None:
        """Bring records that were kept one by one into blocks, within the transaction of a migration."""
        old = "SELECT moment, system, login, did, state, path, dest, address, device, detail FROM trail ORDER BY id"
        systems: dict[str, list[Record]] = {}
        for moment, system, login, did, state, path, dest, *words in self._db.execute(old).fetchall():
            address, device, detail = (text or "" for text in words)
            one = Record(
                _moment(moment), login, DIDS[did], path or b"", dest or b"", bool(state & DONE),
                bool(state & FOLDER), address, device, detail,
            )  # fmt: skip
            systems.setdefault(system, []).append(one)
        for system, records in systems.items():
            self._insert(system, records)
        self._db.execute("DROP VIEW trail")
        for table in ("records", "names", "paths", "words_before"):
            self._db.execute(f"DROP TABLE trail_{table}")

    def covered(self) -> dict[str, Covered]:
        """Return what is kept of each system that has records."""
        rows = self._db.execute(
            "SELECT system, min(first_moment), max(last_moment), CAST(sum(rows) AS bigint) FROM trail_blocks"
            " GROUP BY system"
        )
        return {name: Covered(_moment(first), _moment(last), rows) for name, first, last, rows in rows}

    def select(
        self,
        *,
        logins: Collection[tuple[str, str]] | None = None,
        below: Mapping[Address, datetime | None] | None = None,
        dids: Collection[Did] | None = None,
        is_done: bool | None = None,
        severity: Severity = Severity.INFO,
        origins: Collection[str] | None = None,
        since: datetime | None = None,
        until: datetime | None = None,
    ) -> Selection:
        """Find records; raises `LedgerError`.

        `logins` are systems and logins (None: all); `below` are folders or files, and all below them, each with until
        when that was its name (None: to this day); `is_done` tells what was done from what was refused; `severity` is
        the least, and `origins` are addresses, networks or devices; `since` is the first moment and `until` the first
        that is too late.
        """
        return select(
            self._db,
            self._where,
            logins=logins,
            below=below,
            dids=dids,
            is_done=is_done,
            severity=severity,
            origins=origins,
            since=since,
            until=until,
        )

    def origins(self) -> list[str]:
        """Return the addresses and devices that records tell of."""
        return list(origins_of(self._db).values())

    def records(self, *, since: datetime, until: datetime) -> Iterator[tuple[str, Record]]:
        """Yield systems and records of a time in the order of it; raises `LedgerError`."""
        yield from self.select(since=since, until=until).records()

    def table(
        self,
        system: str,
        since: datetime | None = None,
        until: datetime | None = None,
        kinds_since: datetime | None = None,
    ) -> TrailTable:
        """Return records of one system as columns; raises `LedgerError`.

        Names of files are not in it; their kinds are told of records from `kinds_since` on (None: of none).
        """
        with reading(self._where):
            return read_table(self._db, system, since, until, kinds_since)


def _moment(seconds: int) -> datetime:
    return datetime.fromtimestamp(seconds, UTC)
