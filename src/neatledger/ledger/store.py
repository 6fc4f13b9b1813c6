"""Open the ledger, keep counts in it, and find them again."""

from __future__ import annotations

import json
import os
import zlib
from collections.abc import Callable, Iterable, Iterator, Sequence, Sized
from contextlib import AbstractContextManager, contextmanager
from dataclasses import dataclass, replace
from datetime import UTC, date, datetime
from typing import IO, TYPE_CHECKING

from neatledger.core.survey.accounts import Account, Group
from neatledger.core.tree.columns import COLUMNS, NotSeen
from neatledger.errors import LedgerError, NoCountError
from neatledger.ledger.carried import CarriedCount, write_carried
from neatledger.ledger.chain import Chain, Subject
from neatledger.ledger.engines.contract import ENGINE_ERRORS, Database
from neatledger.ledger.findings import FindingLog
from neatledger.ledger.notices import NoticeLog
from neatledger.ledger.packing import CHUNK_ROWS, pack_column
from neatledger.ledger.plans import PlanLog
from neatledger.ledger.reader import SurveyReader
from neatledger.ledger.seals import seal_survey
from neatledger.ledger.writing import transaction

if TYPE_CHECKING:
    from concurrent.futures import ThreadPoolExecutor

    from neatledger.core.survey.survey import Survey
    from neatledger.core.tree.table import Table
    from neatledger.ledger.journal import Journal
    from neatledger.ledger.reviews import Reviews
    from neatledger.ledger.trail.trail import Trail

__all__ = ["CountInfo", "Ledger", "SurveyInfo", "refused"]

_COMPRESSING = 2  # threads
_SMALL = 2000  # folders of a survey whose columns are read at once


def _show_moment(moment: datetime) -> str:
    return moment.astimezone().strftime("%Y-%m-%d %H:%M")


@dataclass(frozen=True, slots=True)
class SurveyInfo:
    """What one count says of one system, in short; `taken_at` is when it was counted (UTC)."""

    id: int
    system: str
    source: str
    model: str
    folders: int
    files: int
    not_seen: int
    taken_at: datetime

    @property
    def not_seen_words(self) -> str:
        """How much was not seen, in words."""
        return f"{self.not_seen:,} things" if self.not_seen > 1 else "one thing"

    @property
    def when(self) -> str:
        """The local day and time at which it was counted, to the minute."""
        return _show_moment(self.taken_at)


@dataclass(frozen=True, slots=True)
class CountInfo:
    """One count: its number, when it was taken (UTC), and its systems.

    `origin` is the digest of the file in which it came, and `signer` the public key that signed that; both empty of
    a count that was taken here.
    """

    id: int
    taken_at: datetime
    surveys: tuple[SurveyInfo, ...]
    origin: str = ""
    signer: str = ""

    @property
    def day(self) -> date:
        """The local day on which it was taken."""
        return self.taken_at.astimezone().date()

    @property
    def when(self) -> str:
        """The local day and time at which it was taken, to the minute."""
        return _show_moment(self.taken_at)


class Ledger:
    """One open ledger; `where` is the path of its file, or the address of its database."""

    def __init__(self, connection: Database, where: str) -> None:
        self.where = where
        self._db = connection

    @property
    def database(self) -> Database:
        """What it lies in."""
        return self._db

    def close(self) -> None:
        """Close it."""
        self._db.close()

    def damage(self) -> str:
        """Say what in it is not as it was written, or cannot be read any more; empty where all is."""
        try:
            broken = self.chain.prove().first_broken
        except (LedgerError, *ENGINE_ERRORS) as error:
            return str(error)
        return f"link {broken.link.id}: {broken.why}" if broken else ""

    def add_count(
        self, surveys: Sequence[Survey], taken_at: datetime, tool: str, begun: Callable[[], object] = lambda: None
    ) -> int:
        """Store a whole count in one transaction and return its number; all of it or nothing.

        `begun` is called when no other run can come between any more, right before the writing.
        """
        with self._writing():
            begun()
            cursor = self._db.execute(
                "INSERT INTO counts (taken_at, tool) VALUES (?, ?)",
                (taken_at.astimezone(UTC).isoformat(timespec="seconds"), tool),
            )
            count = int(cursor.lastrowid or 0)
            for survey in surveys:
                self._add_survey(count, survey)
            self.chain.add(Subject.COUNT, count, count)
        return count

    @contextmanager
    def _writing(self) -> Iterator[None]:
        try:
            with transaction(self._db):
                yield
        except ENGINE_ERRORS as error:
            raise refused(error, self.where) from error

    def write_count(self, count: int, office: str, out: IO[bytes], signed: Callable[[bytes], str] | None) -> str:
        """Write a count of an office into a file, as `carried` has it; returns the digest. Raises `LedgerError`."""
        try:
            return write_carried(self._db, count, office, out, signed)
        except ENGINE_ERRORS as error:
            raise refused(error, self.where) from error

    def take_count(self, carried: CarriedCount, signer: str) -> int:
        """Take a count out of a file, checked whole, and return its number; raises `LedgerError`.

        Nothing is taken where anything of it is not as it was written, or where it was taken before.
        """
        # It works on whole columns: what only asks needs no NumPy.
        from neatledger.ledger.soundness import check_sound

        with self._writing():
            known = self._db.execute("SELECT id FROM counts WHERE origin = ?", (carried.digest,)).fetchone()
            if known is not None:
                raise LedgerError(f"this count was taken before: it is count {known[0]}", self.where)
            moment = carried.taken_at.astimezone(UTC).isoformat(timespec="seconds")
            cursor = self._db.execute(
                "INSERT INTO counts (taken_at, tool, origin, signer) VALUES (?, ?, ?, ?)",
                (moment, carried.tool, carried.digest, signer),
            )
            count = int(cursor.lastrowid or 0)
            for number in carried.insert(self._db, lambda survey: self._add_survey_row(count, survey)):
                seal_survey(self._db, number)
            for info in next(one for one in self.counts() if one.id == count).surveys:
                check_sound(self.read_survey(info), info.folders)
            self.chain.add(Subject.COUNT, count, count)
        return count

    def _add_survey_row(self, count: int, values: Sequence[object]) -> int:
        cursor = self._db.execute(
            "INSERT INTO surveys (count_id, system, source, model, folders, files, facts)"
            " VALUES (?, ?, ?, ?, ?, ?, ?)",
            (count, *values),
        )
        return int(cursor.lastrowid or 0)

    def _add_survey(self, count: int, survey: Survey) -> None:
        db = self._db
        facts = json.dumps(survey.facts, sort_keys=True)
        folders = survey.folders.rows
        number = self._add_survey_row(
            count, (survey.system, survey.source, survey.model, folders, survey.files, facts)
        )
        db.executemany(
            "INSERT INTO accounts VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)",
            ((number, place, *_account_row(one)) for place, one in enumerate(survey.accounts)),
        )
        db.executemany(
            "INSERT INTO account_groups VALUES (?, ?, ?, ?, ?, ?, ?)",
            (
                (number, place, *map(_storable, (one.name, one.ident)), *_members(one))
                for place, one in enumerate(survey.groups)
            ),
        )
        db.executemany(
            "INSERT INTO not_seen VALUES (?, ?, ?, ?)",
            ((number, place, _not_seen_path(one), _storable(one.why)) for place, one in enumerate(survey.not_seen)),
        )
        if survey.shared is not None:
            text = json.dumps(survey.shared.to_facts(), separators=(",", ":"))
            # What could not be decoded travels as lone surrogates, which UTF-8 itself has no room for.
            db.execute("INSERT INTO shared VALUES (?, ?)", (number, zlib.compress(text.encode("ascii"), 1)))
        self._add_tables(number, survey)
        seal_survey(db, number)

    def _add_tables(self, number: int, survey: Survey) -> None:
        # Who only asks writes none.
        from concurrent.futures import ThreadPoolExecutor

        texts = {
            "lists.body": survey.lists,
            "idents.text": [ident.encode() for ident in survey.idents],
            "kinds.word": [os.fsencode(kind) for kind in survey.kinds],
        }
        tables: dict[str, Table] = {
            "folders": survey.folders,
            "classes": survey.classes,
            "odd": survey.odd,
            **survey.totals,
            "hard": survey.hard,
            "others": survey.others,
            "large": survey.large,
            "collisions": survey.collisions,
        }
        columns: list[tuple[str, Sized, str]] = [(name, strings, "bytes") for name, strings in texts.items()]
        for name, table in tables.items():
            columns += [(f"{name}.{key}", table.columns[key], dtype) for key, dtype in COLUMNS[name].items()]

        def rows(pool: ThreadPoolExecutor) -> Iterator[tuple[int, str, int, bytes]]:
            for name, column, dtype in columns:
                # Of a column of one chunk nothing can go on meanwhile.
                run = pool.map if len(column) > CHUNK_ROWS else map
                for chunk, data in enumerate(pack_column(column, dtype, run)):
                    yield number, name, chunk, data

        with ThreadPoolExecutor(_COMPRESSING) as pool:
            query = "INSERT INTO packed (survey_id, name, chunk, data) VALUES (?, ?, ?, ?)"
            self._db.executemany(query, rows(pool))

    def remove_count(self, number: int) -> None:
        """Remove a whole count in one transaction; raises `LedgerError`."""
        with self._writing():
            of_count = "survey_id IN (SELECT id FROM surveys WHERE count_id = ?)"
            for table in ("accounts", "account_groups", "not_seen", "packed", "shared", "seals"):
                self._db.execute(f"DELETE FROM {table} WHERE {of_count}", (number,))
            self._db.execute("DELETE FROM findings WHERE count_id = ?", (number,))
            self._db.execute("DELETE FROM surveys WHERE count_id = ?", (number,))
            self._db.execute("DELETE FROM counts WHERE id = ?", (number,))
            self.chain.add(Subject.REMOVED, number, number)

    def counts(self) -> list[CountInfo]:
        """Return all counts, the oldest first."""
        found = [
            (ident, datetime.fromisoformat(taken), origin, signer)
            for ident, taken, origin, signer in self._db.execute(
                "SELECT id, taken_at, origin, signer FROM counts ORDER BY taken_at, id"
            )
        ]
        moments = {ident: taken for ident, taken, _, _ in found}
        surveys: dict[int, list[SurveyInfo]] = {}
        rows = self._db.execute(
            "SELECT id, count_id, system, source, model, folders, files,"
            " (SELECT count(*) FROM not_seen WHERE survey_id = surveys.id) FROM surveys"
            # A count that another run has kept between the two questions is not one of these.
            " WHERE count_id IN (SELECT value FROM json_each(?)) ORDER BY id",
            (json.dumps(list(moments)),),
        )
        for ident, count, system, source, model, folders, files, not_seen in rows:
            info = SurveyInfo(ident, system, source, model, folders, files, not_seen, moments[count])
            surveys.setdefault(count, []).append(info)
        return [CountInfo(ident, taken, tuple(surveys.get(ident, ())), *whence) for ident, taken, *whence in found]

    def carried(self, count: CountInfo, systems: Iterable[str]) -> CountInfo:
        """Return a count with what older ones say of those of `systems` that it lacks, of each the newest."""
        has = {one.system for one in count.surveys}
        lacks = dict.fromkeys(system for system in systems if system not in has)
        newest: dict[str, SurveyInfo] = {}
        for older in self.counts() if lacks else ():
            if (older.taken_at, older.id) < (count.taken_at, count.id):
                newest |= {one.system: one for one in older.surveys if one.system in lacks}
        return replace(count, surveys=(*count.surveys, *newest.values())) if newest else count

    def find_count(self, as_of: date | None = None) -> CountInfo:
        """Return the newest count, or the newest taken on `as_of` or before; raises `NoCountError`."""
        counts = self.counts()
        if not counts:
            raise NoCountError("there is no count yet", self.where, "run: neatledger count")
        if as_of is None:
            return counts[-1]
        older = [count for count in counts if count.day <= as_of]
        if not older:
            first = counts[0].taken_at.astimezone().date().isoformat()
            raise NoCountError(f"there is no count of {as_of} or before", self.where, f"the first is of {first}")
        return older[-1]

    @property
    def chain(self) -> Chain:
        """What shows that all that was written is as it was."""
        return Chain(self._db, self.where)

    @property
    def journal(self) -> Journal:
        """The journal of what was carried out."""
        # It knows every kind of step: a quarter of what a question would wait for.
        from neatledger.ledger.journal import Journal

        return Journal(self._db, self.where)

    @property
    def findings(self) -> FindingLog:
        """What the checks told of the counts."""
        return FindingLog(self._db, self.where)

    @property
    def reviews(self) -> Reviews:
        """The record of what was asked of whom, and decided."""
        from neatledger.ledger.reviews import Reviews

        return Reviews(self._db, self.where)

    @property
    def notices(self) -> NoticeLog:
        """The record of what was told to whom."""
        return NoticeLog(self._db, self.where)

    @property
    def trail(self) -> Trail:
        """What was done, as systems wrote it down."""
        # It works on whole columns: what asks nothing of it needs no NumPy.
        from neatledger.ledger.trail.trail import Trail

        return Trail(self._db, self.where)

    def has_trail(self, system: str | None = None) -> bool:
        """Tell whether anything of the trail is kept, of a system or of any."""
        if system is None:
            return self._db.execute("SELECT 1 FROM trail_blocks LIMIT 1").fetchone() is not None
        query = "SELECT 1 FROM trail_blocks WHERE system = ? LIMIT 1"
        return self._db.execute(query, (system,)).fetchone() is not None

    def trail_begins(self) -> dict[str, datetime]:
        """Return of each system the first moment of which records are kept one by one (UTC)."""
        query = "SELECT system, min(first_moment) FROM trail_blocks WHERE numbers IS NULL GROUP BY system"
        return {system: datetime.fromtimestamp(first, UTC) for system, first in self._db.execute(query)}

    def trail_head(self) -> tuple[object, ...]:
        """Return what changes whenever something of the trail is written."""
        # Beside the trail itself, which needs NumPy.
        return tuple(
            self._db.execute("SELECT max(id), (SELECT max(read_at) FROM trail_logs) FROM trail_blocks").fetchone()
        )

    def held(self, name: str) -> AbstractContextManager[bool]:
        """Hold a lock for as long as this process lives at most; false where another holds it."""
        return self._db.held(name)

    @property
    def is_shared(self) -> bool:
        """Whether several may use it at once, each with a plan of their own: it lies in a database."""
        return "://" in self.where

    @property
    def plans(self) -> PlanLog:
        """The plans that the ledger was used with."""
        return PlanLog(self._db, self.where)

    def read_survey(self, info: SurveyInfo) -> SurveyReader:
        """Return a reader of one system's part of a count."""
        # A few folders may hold millions of files, each with a list of its own.
        is_small = info.folders <= _SMALL and info.files <= _SMALL * 100
        return SurveyReader(self._db, info.id, info.system, info.model, is_small=is_small)


def _account_row(one: Account) -> tuple[str | int, ...]:
    last_seen = "" if one.last_seen is None else one.last_seen.isoformat()
    words = (one.login, one.ident, one.primary, one.name, one.email, one.home, one.shell)
    rest = (int(one.may_use), last_seen, int(one.is_entitled), _admission(one))
    return (*map(_storable, words), one.state.value, _storable(one.note), *rest)


def _members(one: Group) -> tuple[str, ...]:
    return tuple(json.dumps([_storable(text) for text in texts]) for texts in (one.members, one.nested, one.untold))


def _storable(text: str) -> str:
    """Return a name as a database keeps it: what was no text in UTF-8, where it came from, stands as an escape."""
    return text if text.isascii() else text.encode("utf-8", "backslashreplace").decode("utf-8")


def _admission(one: Account) -> str:
    return json.dumps(one.admission.to_facts(), sort_keys=True)


def refused(error: Exception, where: str) -> LedgerError:
    """Return in one line what an engine says that goes wrong."""
    if "locked" in str(error):
        return LedgerError("another run is writing to the ledger", where, "try again when it has ended")
    if "full" in str(error):
        return LedgerError("the disk is full; nothing was stored", where, "make room and count again")
    return LedgerError(f"cannot be used: {error}", where)


def _not_seen_path(one: NotSeen) -> bytes:
    """Return how a thing not seen is kept: an item's path, or a part of the source behind a NUL."""
    return b"\0" + _storable(one.source).encode("utf-8") if one.source else one.path
