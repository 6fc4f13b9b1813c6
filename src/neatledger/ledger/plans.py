"""The plans that a ledger was used with: who shares it learns that somebody has another plan by now."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import UTC, datetime

from neatledger.errors import LedgerError
from neatledger.ledger.engines.contract import ENGINE_ERRORS, Database
from neatledger.ledger.writing import transaction

__all__ = ["NotedPlan", "PlanLog"]


@dataclass(frozen=True, slots=True)
class NotedPlan:
    """A plan by the SHA-256 of its text, when it was first used (UTC), and by whom."""

    moment: datetime
    digest: str
    who: str


class PlanLog:
    """The plans noted in an open ledger."""

    def __init__(self, connection: Database, where: str) -> None:
        self._db = connection
        self._where = where

    def note(self, digest: str, who: str, moment: datetime) -> None:
        """Note that a plan is used from now on, unless it is the last that was noted; raises `LedgerError`."""
        when = moment.astimezone(UTC).isoformat(timespec="seconds")
        try:
            with transaction(self._db):
                last = self._last()
                if last is None or last.digest != digest:
                    values = (when, digest, who)
                    self._db.execute("INSERT INTO plans (moment, digest, who) VALUES (?, ?, ?)", values)
        except ENGINE_ERRORS as error:
            raise LedgerError(f"the plan cannot be noted: {error}", self._where) from error

    def is_known(self, digest: str) -> bool:
        """Tell whether a plan was ever noted."""
        try:
            return self._db.execute("SELECT 1 FROM plans WHERE digest = ?", (digest,)).fetchone() is not None
        except ENGINE_ERRORS as error:
            raise LedgerError(f"the plans cannot be read: {error}", self._where) from error

    def newer_than(self, digest: str) -> NotedPlan | None:
        """Return the last plan noted, where this one was noted before and is not the last; else None."""
        if not self.is_known(digest):
            return None
        last = self._last()
        return last if last is not None and last.digest != digest else None

    def _last(self) -> NotedPlan | None:
        row = self._db.execute("SELECT moment, digest, who FROM plans ORDER BY id DESC LIMIT 1").fetchone()
        return None if row is None else NotedPlan(datetime.fromisoformat(row[0]), row[1], row[2])
