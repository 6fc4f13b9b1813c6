"""What the checks told of a count, kept beside it: so it need not be looked for again, and shows since when it holds.

Of each count the first look is kept, which is how it was told then, and the last one, which answers at once.
"""

from __future__ import annotations

import json
import zlib
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import date
from hashlib import blake2b
from typing import Any

from neatledger.core.checks.finding import Finding
from neatledger.core.lists.rights import Right
from neatledger.core.space.when import FillUp, Meeting, When
from neatledger.core.tree.address import Address
from neatledger.errors import LedgerError
from neatledger.ledger.chain import Chain, Subject
from neatledger.ledger.engines.contract import ENGINE_ERRORS, Database
from neatledger.ledger.packing import inflate
from neatledger.ledger.writing import transaction

__all__ = ["FindingLog", "Look", "Told", "digest_of"]

_MOST_BYTES = 8_000_000  # packed: some seventy thousand findings
_DIGEST = 8  # bytes


@dataclass(frozen=True, slots=True)
class Told:
    """What was found in a count, on a day: the findings in the order of the checks, and what fills up when."""

    count: int
    day: date
    findings: tuple[Finding, ...]
    filling: tuple[FillUp, ...]


@dataclass(frozen=True, slots=True)
class Look:
    """A first look at a count in short: its day, how many findings stood by severity, a digest of each subject."""

    count: int
    day: date
    standing: Mapping[str, int]
    subjects: frozenset[bytes]


def digest_of(finding: Finding) -> bytes:
    """Return what tells the subject of a finding from others, in eight bytes."""
    check, place, cause, people = finding.subject
    where = (place.system, place.path) if isinstance(place, Address) else place
    return blake2b(repr((check, where, cause, people)).encode("utf-8", "surrogatepass"), digest_size=_DIGEST).digest()


class FindingLog:
    """The findings kept in an open ledger."""

    def __init__(self, connection: Database, where: str) -> None:
        self._db = connection
        self._where = where
        self._chain = Chain(connection, where)

    def keep(self, told: Told, basis: str, standing: Mapping[str, int]) -> bool:
        """Keep what was told, unless it is kept already; tell whether it could be written.

        A ledger that cannot be written to, or that another run is writing to, still answers: what is not kept is
        looked for again.
        """
        subjects = b"".join(digest_of(one) for one in told.findings)
        row = (told.count, basis, told.day.isoformat(), json.dumps(standing), subjects, _pack(told))
        try:
            with self._db.impatient(), transaction(self._db):
                kept = "SELECT id FROM findings WHERE count_id = ? AND basis = ?"
                known = self._db.execute(kept, (told.count, basis)).fetchone()
                if known is not None and not self._chain.holds(Subject.FINDINGS, known[0]):
                    # Somebody else put it there, or altered it.
                    self._db.execute("DELETE FROM findings WHERE id = ?", known)
                    known = None
                if known is None:
                    insert = "INSERT INTO findings (count_id, basis, day, standing, subjects, data)"
                    self._db.execute(f"{insert} VALUES (?, ?, ?, ?, ?, ?)", row)
                    (number,) = self._db.execute(kept, (told.count, basis)).fetchone()
                    self._chain.add(Subject.FINDINGS, number, number)
                self._db.execute(
                    "DELETE FROM findings WHERE count_id = ? AND basis <> ?"
                    " AND id > (SELECT min(id) FROM findings WHERE count_id = ?)",
                    (told.count, basis, told.count),
                )
        except ENGINE_ERRORS:
            return False
        return True

    def find(self, count: int, basis: str) -> Told | None:
        """Return what was told of a count on the same basis; raises `LedgerError` where it is damaged."""
        query = "SELECT id, count_id, day, data FROM findings WHERE count_id = ? AND basis = ?"
        return self._one(query, (count, basis))

    def first(self, count: int) -> Told | None:
        """Return what was first told of a count; raises `LedgerError` where it is damaged."""
        query = "SELECT id, count_id, day, data FROM findings WHERE count_id = ? ORDER BY id LIMIT 1"
        return self._one(query, (count,))

    def is_large(self, count: int) -> bool:
        """Tell whether looking through what was found takes longer than a question about one folder may."""
        query = "SELECT length(data) FROM findings WHERE count_id = ? ORDER BY id DESC LIMIT 1"
        row = self._db.execute(query, (count,)).fetchone()
        return row is not None and int(row[0]) > _MOST_BYTES

    def below(self, count: int, folder: Address) -> list[Finding] | None:
        """Return what the last look at a count found below a folder; None where nobody looked yet."""
        query = "SELECT id, data FROM findings WHERE count_id = ? ORDER BY id DESC LIMIT 1"
        row = self._db.execute(query, (count,)).fetchone()
        if row is None or not self._chain.holds(Subject.FINDINGS, row[0]):
            return None
        start = (folder.path.rstrip(b"/") + b"/").hex()
        try:
            rows = json.loads(inflate(row[1], "what was found"))["findings"]
            inside = [one for one in rows if one[1] and one[2][0] == folder.system and one[2][1].startswith(start)]
            return [_finding(one) for one in inside if one[2][1] != start or folder.path != b"/"]
        except (LedgerError, ValueError, KeyError, TypeError) as error:
            raise LedgerError("the findings kept with a count are damaged", self._where, "count again") from error

    def looks(self) -> dict[int, Look]:
        """Return the first look at every count that was looked at, by the count's number."""
        rows = self._db.execute(
            "SELECT id, count_id, day, standing, subjects FROM findings"
            " WHERE id IN (SELECT min(id) FROM findings GROUP BY count_id)"
        ).fetchall()
        return {
            count: Look(count, date.fromisoformat(day), json.loads(standing), _digests(subjects))
            for number, count, day, standing, subjects in rows
            if self._chain.holds(Subject.FINDINGS, number)
        }

    def _one(self, query: str, values: Sequence[Any]) -> Told | None:
        row = self._db.execute(query, values).fetchone()
        # What is not as the chain has it is looked for anew.
        if row is None or not self._chain.holds(Subject.FINDINGS, row[0]):
            return None
        _, count, day, data = row
        try:
            facts = json.loads(inflate(data, "what was found"))
            findings = tuple(_finding(one) for one in facts["findings"])
            filling = tuple(_fill_up(one) for one in facts["filling"])
        except (LedgerError, ValueError, KeyError, TypeError) as error:
            raise LedgerError("the findings kept with a count are damaged", self._where, "count again") from error
        return Told(count, date.fromisoformat(day), findings, filling)


def _digests(subjects: bytes) -> frozenset[bytes]:
    return frozenset(subjects[at : at + _DIGEST] for at in range(0, len(subjects), _DIGEST))


def _pack(told: Told) -> bytes:
    facts = {
        "findings": [_finding_facts(one) for one in told.findings],
        "filling": [
            (one.target, one.amount, one.limit, one.when.meeting.name, *map(_day_text, _days(one.when)))
            for one in told.filling
        ],
    }
    # Lone surrogates stand for bytes that are not UTF-8; written as escapes they come back as they were.
    return zlib.compress(json.dumps(facts, separators=(",", ":")).encode("ascii"), 1)


def _finding_facts(one: Finding) -> list[Any]:
    is_folder = isinstance(one.place, Address)
    place = [one.place.system, one.place.path.hex()] if isinstance(one.place, Address) else one.place
    rights = one.rights.value
    happened = _day_text(one.happened)
    return [one.check, int(is_folder), place, one.evidence, one.advice, one.cause, one.people, rights, happened]


def _finding(facts: Sequence[Any]) -> Finding:
    check, is_folder, place, evidence, advice, cause, people, rights, *more = facts
    where = Address(place[0], bytes.fromhex(place[1])) if is_folder else place
    # Older looks did not keep when something was done.
    happened = date.fromisoformat(more[0]) if more and more[0] else None
    return Finding(check, where, evidence, advice, cause, tuple(people), Right(rights), happened)


def _days(when: When) -> tuple[date | None, ...]:
    return when.day, when.earliest, when.latest


def _day_text(day: date | None) -> str:
    return "" if day is None else day.isoformat()


def _fill_up(facts: Sequence[Any]) -> FillUp:
    target, amount, limit, meeting, *texts = facts
    day, earliest, latest = (date.fromisoformat(text) if text else None for text in texts)
    return FillUp(target, amount, limit, When(Meeting[meeting], day, earliest, latest))
