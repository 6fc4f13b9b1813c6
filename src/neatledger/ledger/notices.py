"""The record of notices: what was told to whom, and when; entries are only ever added."""

from __future__ import annotations

import json
from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from datetime import UTC, datetime
from enum import Enum

from neatledger.errors import LedgerError
from neatledger.ledger.chain import Chain, Subject
from neatledger.ledger.engines.contract import ENGINE_ERRORS, Database
from neatledger.ledger.writing import transaction

__all__ = ["Event", "NoticeLog", "Told"]


class Event(Enum):
    """What became of a notice. One that was begun, and of which nothing follows, may have arrived or not."""

    BEGUN = "begun"
    SENT = "sent"
    WRITTEN = "written"
    DEFERRED = "deferred"
    REFUSED = "refused"
    ENDED = "ended"


@dataclass(frozen=True, slots=True)
class Told:
    """The last word on one thing that somebody is told: what became of it, when, and what the server said."""

    event: Event
    moment: datetime
    facts: Mapping[str, str]

    @property
    def is_told(self) -> bool:
        """Tell whether it was told, or may have been."""
        return self.event in (Event.BEGUN, Event.SENT, Event.WRITTEN)


class NoticeLog:
    """The record in an open ledger."""

    def __init__(self, connection: Database, where: str) -> None:
        self._db, self._where = connection, where

    def add(self, event: Event, keys: Iterable[str], moment: datetime, facts: Mapping[str, str]) -> None:
        """Write down what became of something; it has outlasted a power cut when this returns."""
        values = (
            event.value,
            moment.astimezone(UTC).isoformat(timespec="seconds"),
            json.dumps(list(keys)),
            json.dumps(dict(facts)),
        )
        try:
            with transaction(self._db):
                self._db.execute("INSERT INTO notices (event, moment, keys, facts) VALUES (?, ?, ?, ?)", values)
                Chain(self._db, self._where).add_rows(Subject.NOTICES, 1)
        except ENGINE_ERRORS as error:
            raise LedgerError(f"the notice cannot be kept: {error}", self._where) from error

    def last_run(self) -> datetime | None:
        """Return when notices were last written or sent; None where they never were."""
        asked = "SELECT max(moment) FROM notices WHERE event = ?"
        (found,) = self._db.execute(asked, (Event.ENDED.value,)).fetchone()
        return None if found is None else datetime.fromisoformat(found)

    def standing(self) -> dict[str, Told]:
        """Return the last word on each thing that was ever told and has not ended since."""
        found: dict[str, Told] = {}
        for event, moment, keys, facts in self._db.execute(
            "SELECT event, moment, keys, facts FROM notices ORDER BY id"
        ):
            for key in json.loads(keys):
                if event == Event.ENDED.value:
                    found.pop(key, None)
                else:
                    found[key] = Told(Event(event), datetime.fromisoformat(moment), json.loads(facts))
        return found
