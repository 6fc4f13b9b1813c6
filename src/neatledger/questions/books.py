"""The books of an office: its plan and its ledger, opened once for all who ask; and what was answered by now."""

from __future__ import annotations

from dataclasses import dataclass, field
from functools import cached_property
from hashlib import sha256
from pathlib import Path

from neatledger.core.people.names import EntryNames
from neatledger.core.plan.plan import Plan
from neatledger.errors import LedgerError
from neatledger.ledger.engines.contract import EngineError
from neatledger.ledger.findings import Told
from neatledger.ledger.opening import open_ledger
from neatledger.ledger.reader import SurveyReader
from neatledger.ledger.store import Ledger, SurveyInfo, refused
from neatledger.office.read import PLAN_NAME, read_plan

__all__ = ["LEDGER_NAME", "Answers", "Books"]

LEDGER_NAME = "ledger.db"
_MOST_KEPT = 256  # surveys that are looked back at


class Books:
    """The plan's file and the ledger of an office in a folder, and what was read in older counts.

    All offices that are derived from one another share them on purpose: what is in them does not change.
    `ledger_at` is the address of a database that is the ledger, in place of what the plan says.
    """

    def __init__(self, folder: Path, ledger_at: str = "") -> None:
        self.folder, self.ledger_at = folder, ledger_at
        self.opened: Ledger | None = None
        self._looked_back: dict[int, SurveyReader] = {}

    @cached_property
    def plan(self) -> Plan:
        """The plan as its file says, of no day; raises `OfficeError` or `PlanError`."""
        return read_plan(self.folder)

    def plan_digest(self) -> str:
        """Return the SHA-256 of the plan's text, as it lies in the folder now."""
        return sha256((self.folder / PLAN_NAME).read_bytes()).hexdigest()

    @property
    def ledger(self) -> Ledger:
        """The ledger, opened when it is first asked; raises `NoCountError` where there is none yet."""
        if self.opened is None:
            self.opened = self.open_ledger()
        return self.opened

    def open_ledger(self, *, create: bool = False) -> Ledger:
        """Open the ledger for oneself, to add to it; a plan with faults is told before a ledger that is not there."""
        planned = self.plan.ledger
        return open_ledger(self.ledger_at or planned or self.folder / LEDGER_NAME, create=create)

    def failure_of(self, error: Exception) -> LedgerError | None:
        """Return in words what a server that keeps the ledger did not answer; None for what is nothing of that."""
        if isinstance(error, EngineError) and self.opened is not None:
            return refused(error, self.opened.where)
        return None

    @property
    def are_shared(self) -> bool:
        """Tell whether others write to the same ledger; no where it was not opened."""
        return self.opened is not None and self.opened.is_shared

    def close(self) -> None:
        """Close the ledger, where it was opened."""
        if self.opened is not None:
            self.opened.close()

    def reader_of(self, info: SurveyInfo) -> SurveyReader:
        """Return what reads a survey of any count; small ones are kept."""
        known = self._looked_back.get(info.id)
        if known is not None:
            return known
        reader = self.ledger.read_survey(info)
        if reader.is_small:
            if len(self._looked_back) >= _MOST_KEPT:
                self._looked_back.clear()
            self._looked_back[info.id] = reader
        return reader


@dataclass
class Answers:
    """What one office was asked by now: never another's, though that is derived from it.

    `findings` are those of the checks by what they rest on; `names` those of what stands in a system's lists.
    """

    findings: dict[str, Told] = field(default_factory=dict)
    names: dict[str, EntryNames] = field(default_factory=dict)

    @property
    def are_of_all(self) -> bool:
        """Tell whether an answer rests on every system, though what was kept of them was looked up, not read anew."""
        return bool(self.findings)
