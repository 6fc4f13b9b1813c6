"""The record of reviews: which packs were made, and who decided what; each entry sealed with all before it.

Every entry holds the SHA-256 (FIPS 180-4) of the one before it and of itself: whatever is altered, taken out or put
in between later does not fit any more.
"""

from __future__ import annotations

import json
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import UTC, date, datetime
from hashlib import sha256
from typing import Any

from neatledger.core.lists.rights import Level
from neatledger.core.reviews.pack import Choice, Decision, Pack, PackRow
from neatledger.core.tree.address import Address
from neatledger.errors import LedgerError
from neatledger.ledger.chain import Chain, Subject
from neatledger.ledger.engines.contract import ENGINE_ERRORS, Database
from neatledger.ledger.writing import transaction

__all__ = ["Reviews", "Taken"]

_MADE, _TAKEN = "made", "taken"
_NOTHING = b"\0" * 32


@dataclass(frozen=True, slots=True)
class Taken:
    """One answer that was taken: of which pack, by whom, on which day, with the decisions by token."""

    pack: str
    by: str
    day: date
    decisions: tuple[Decision, ...]


class Reviews:
    """The record in an open ledger."""

    def __init__(self, connection: Database, where: str) -> None:
        self._db = connection
        self._where = where

    def add_packs(self, packs: Sequence[Pack], moment: datetime) -> None:
        """Write down that packs were made, all or none; raises `LedgerError`."""
        self._add([(_MADE, _pack_facts(one)) for one in packs], moment)

    def add_answer(self, pack: Pack, by: str, day: date, decisions: Sequence[Decision], moment: datetime) -> None:
        """Write down what was decided; raises `LedgerError`."""
        facts = {
            "pack": pack.id,
            "by": by,
            "day": day.isoformat(),
            "decisions": [
                [one.row.token, one.choice.value, one.level.value if one.level else "", one.remark]
                for one in decisions
            ],
        }
        self._add([(_TAKEN, facts)], moment)

    def _add(self, entries: Sequence[tuple[str, dict[str, Any]]], moment: datetime) -> None:
        when = moment.astimezone(UTC).isoformat(timespec="seconds")
        try:
            with transaction(self._db):
                last = self.head()
                for event, facts in entries:
                    text = json.dumps(facts, sort_keys=True)
                    last = _seal(last, event, when, text)
                    self._db.execute(
                        "INSERT INTO reviews (event, moment, facts, seal) VALUES (?, ?, ?, ?)",
                        (event, when, text, last),
                    )
                if entries:
                    Chain(self._db, self._where).add_rows(Subject.REVIEWS, len(entries))
        except ENGINE_ERRORS as error:
            raise LedgerError(f"the review cannot be kept: {error}", self._where) from error

    def head(self) -> bytes:
        """Return the seal of the last entry, which stands for all of them; zeros where there is none."""
        row = self._db.execute("SELECT seal FROM reviews ORDER BY id DESC LIMIT 1").fetchone()
        return _NOTHING if row is None else bytes(row[0])

    def last_reviewed(self, until: date) -> dict[Address, date]:
        """Return when somebody last said of each folder who keeps what there, up to a day; raises `LedgerError`."""
        made, taken = self.read()
        packs = {pack.id: pack for pack in made}
        found: dict[Address, date] = {}
        for answer in taken:
            for folder in packs[answer.pack].folders if answer.day <= until else ():
                found[folder] = max(answer.day, found.get(folder, answer.day))
        return found

    def read(self) -> tuple[list[Pack], list[Taken]]:
        """Return all packs and all answers, the oldest first; raises `LedgerError` where an entry was altered."""
        packs: dict[str, Pack] = {}
        taken: list[Taken] = []
        last = _NOTHING
        rows = self._db.execute("SELECT id, event, moment, facts, seal FROM reviews ORDER BY id").fetchall()
        for expected, (ident, event, moment, text, seal) in enumerate(rows, start=1):
            last = _seal(last, event, moment, text)
            if bytes(seal) != last or ident != expected:
                what = f"the record of decisions was altered: entry {expected} of {len(rows)} does not fit"
                raise LedgerError(what, self._where, "put back a copy of the ledger")
            try:
                facts = json.loads(text)
                if event == _MADE:
                    pack = _pack_of(facts)
                    packs[pack.id] = pack
                else:
                    taken.append(_taken_of(facts, packs[facts["pack"]]))
            except (ValueError, KeyError, TypeError) as error:
                raise LedgerError("the record of decisions is damaged", self._where) from error
        return list(packs.values()), taken


def _seal(last: bytes, event: str, moment: str, text: str) -> bytes:
    return sha256(last + json.dumps([event, moment, text]).encode()).digest()


def _pack_facts(pack: Pack) -> dict[str, Any]:
    return {
        "pack": pack.id,
        "decider": pack.decider,
        "count": pack.count,
        "made": pack.made.isoformat(),
        "folders": [[one.system, one.path.hex()] for one in pack.folders],
        "rows": [row.to_facts() for row in pack.rows],
    }


def _pack_of(facts: dict[str, Any]) -> Pack:
    folders = tuple(Address(system, bytes.fromhex(path)) for system, path in facts["folders"])
    rows = tuple(PackRow.of_facts(one) for one in facts["rows"])
    return Pack(facts["pack"], facts["decider"], facts["count"], date.fromisoformat(facts["made"]), folders, rows)


def _taken_of(facts: dict[str, Any], pack: Pack) -> Taken:
    rows = {row.token: row for row in pack.rows}
    day = date.fromisoformat(facts["day"])
    decisions = tuple(
        Decision(rows[token], Choice(choice), Level(level) if level else None, facts["by"], day, remark)
        for token, choice, level, remark in facts["decisions"]
    )
    return Taken(facts["pack"], facts["by"], day, decisions)
