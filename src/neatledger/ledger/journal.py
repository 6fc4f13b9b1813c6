"""The journal of what was carried out: written down before it is made and after, and never altered.

A *run* is one carrying out of a list of steps. Its events, in order: `BEGUN` with all steps; for each step `INTENT`
with what must be known to finish it or take it back, and `MADE`, with the step as it came out where that is another
than was asked for; and at last `ENDED`. `STOPPED` says why a run went
no further; it may be gone on with. A run that takes another one back says which.
"""

from __future__ import annotations

import json
from collections.abc import Iterable, Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass, field
from datetime import UTC, datetime
from enum import Enum
from typing import Any

from neatledger.core.steps.contract import Step
from neatledger.core.steps.table import step_of_facts, step_to_facts
from neatledger.errors import FormatError, LedgerError
from neatledger.ledger.chain import Chain, Subject
from neatledger.ledger.engines.contract import ENGINE_ERRORS, Database
from neatledger.ledger.writing import transaction

__all__ = ["Event", "Journal", "JournalEntry", "Run"]


class Event(Enum):
    """What is written down."""

    BEGUN = "begun"
    INTENT = "intent"
    NOT_MADE = "not made"  # it was meant, and it was not come to, or the system did not let it be made
    MADE = "made"
    LEFT = "left"  # not made, for it was not as it should be; the run went on
    STOPPED = "stopped"
    ENDED = "ended"


@dataclass(frozen=True, slots=True)
class JournalEntry:
    """One line of the journal; `step` is the place of a step in its run."""

    run: int
    event: Event
    step: int | None
    moment: datetime
    facts: dict[str, Any]


@dataclass(slots=True)
class Run:
    """One run: its steps, what was meant to be made and what was, and why it stopped (empty: it did not).

    `groups` has for every step a number: those of one number hang together, and one that is refused leaves them all.
    None: any that is refused stops the run.
    """

    id: int
    moment: datetime
    steps: Sequence[Step]
    undoes: int | None
    groups: Sequence[int] | None = None
    intents: dict[int, dict[str, Any]] = field(default_factory=dict)
    made: set[int] = field(default_factory=set)
    left: dict[int, str] = field(default_factory=dict)
    stopped: str = ""
    is_ended: bool = False

    def replace(self, place: int, step: Step) -> None:
        """Put a step as it was made in the place of the one that was asked for."""
        self.steps = [*self.steps[:place], step, *self.steps[place + 1 :]]

    @property
    def taken_back(self) -> list[int]:
        """The places of the steps that taking the run back takes back, in that order: those begun, the last first."""
        return [place for place in reversed(range(len(self.steps))) if place in self.made or place in self.intents]

    @property
    def open_steps(self) -> list[int]:
        """The places of the steps that are neither made nor left."""
        return [place for place in range(len(self.steps)) if place not in self.made and place not in self.left]


class Journal:
    """The journal in an open ledger."""

    def __init__(self, connection: Database, where: str) -> None:
        self._db = connection
        self._where = where

    def begin(
        self, steps: Sequence[Step], moment: datetime, undoes: int | None = None, groups: Sequence[int] | None = None
    ) -> int:
        """Write down that a run begins, and return its number; raises `LedgerError`."""
        facts: dict[str, Any] = {"steps": [step_to_facts(step) for step in steps], "undoes": undoes}
        facts |= {} if groups is None else {"groups": list(groups)}
        with self._refusals(), transaction(self._db):
            (last,) = self._db.execute("SELECT coalesce(max(id), 0) FROM journal").fetchone()
            self._insert([(last + 1, Event.BEGUN, None, facts)], moment)
        return int(last) + 1

    def note(
        self, run: int, event: Event, notes: Iterable[tuple[int | None, dict[str, Any]]], moment: datetime
    ) -> None:
        """Write down one event of some steps at once; raises `LedgerError`."""
        with self._refusals(), transaction(self._db):
            self._insert([(run, event, step, facts) for step, facts in notes], moment)

    def _insert(self, rows: list[tuple[int, Event, int | None, dict[str, Any]]], moment: datetime) -> None:
        """Write rows, and the link of the chain that seals them."""
        if not rows:
            return
        when = moment.astimezone(UTC).isoformat(timespec="seconds")
        self._db.executemany(
            "INSERT INTO journal (run, event, step, moment, facts) VALUES (?, ?, ?, ?, ?)",
            [(run, event.value, step, when, json.dumps(facts)) for run, event, step, facts in rows],
        )
        Chain(self._db, self._where).add_rows(Subject.JOURNAL, len(rows))

    def entries(self) -> list[JournalEntry]:
        """Return everything that was written down, in order; raises `LedgerError` where it is damaged."""
        with self._refusals():
            rows = self._db.execute("SELECT run, event, step, moment, facts FROM journal ORDER BY id").fetchall()
            return [
                JournalEntry(run, Event(event), step, datetime.fromisoformat(moment), json.loads(facts))
                for run, event, step, moment, facts in rows
            ]

    def runs(self) -> list[Run]:
        """Return all runs, the oldest first."""
        found: dict[int, Run] = {}
        for one in self.entries():
            if one.event is Event.BEGUN:
                with self._refusals():
                    steps = [step_of_facts(each) for each in one.facts["steps"]]
                found[one.run] = Run(one.run, one.moment, steps, one.facts.get("undoes"), one.facts.get("groups"))
                continue
            run = found[one.run]
            match one.event:
                case Event.INTENT:
                    assert one.step is not None
                    run.intents[one.step] = one.facts
                    run.stopped = ""
                case Event.NOT_MADE:
                    assert one.step is not None
                    run.intents.pop(one.step, None)
                case Event.MADE:
                    assert one.step is not None
                    run.made.add(one.step)
                    if "as" in one.facts:
                        # The system made something else of it: that is what is taken back.
                        with self._refusals():
                            run.replace(one.step, step_of_facts(one.facts["as"]))
                case Event.LEFT:
                    assert one.step is not None
                    run.left[one.step] = str(one.facts.get("why", ""))
                case Event.STOPPED:
                    run.stopped = str(one.facts.get("why", ""))
                case Event.ENDED:
                    run.is_ended, run.stopped = True, ""
        return list(found.values())

    def made_after(self, survey: int) -> list[Step]:
        """Return the steps that were made after a survey was kept, in their order; raises `LedgerError`.

        Clocks do not tell: a run may take less than the second that they are kept to. The chain has the order in
        which things were written down. A step that a run only meant to make counts where another one took it back.
        """
        with self._refusals():
            first = self._first_row_after(survey)
            rows = self._db.execute("SELECT id, run, event, step FROM journal ORDER BY id").fetchall()
        runs = {one.id: one for one in self.runs()}
        found: dict[tuple[int, int], Step] = {}
        for number, run, event, place in rows if first is not None else ():
            if number < first or event != Event.MADE.value:
                continue
            undone = runs[run].undoes
            if undone is not None:
                other = runs[undone]
                taken = other.taken_back[place]
                if taken not in other.made:
                    # Whether it was made nobody knows; both together leave the thing as it was.
                    found.setdefault((undone, taken), other.steps[taken])
            found[run, place] = runs[run].steps[place]
        return list(found.values())

    def _first_row_after(self, survey: int) -> int | None:
        """Return the first line that was written down after a survey; None where there is none."""
        (link,) = self._db.execute(
            "SELECT max(chain.id) FROM chain JOIN surveys ON chain.first <= surveys.count_id"
            " AND chain.last >= surveys.count_id WHERE chain.subject = ? AND surveys.id = ?",
            (Subject.COUNT.value, survey),
        ).fetchone()
        (row,) = self._db.execute(
            "SELECT min(first) FROM chain WHERE subject = ? AND id > ?", (Subject.JOURNAL.value, link or 0)
        ).fetchone()
        return None if row is None else int(row)

    @contextmanager
    def _refusals(self) -> Iterator[None]:
        """Make one line of what the store says, and of a journal that is damaged."""
        try:
            yield
        except ENGINE_ERRORS as error:
            what = "the disk is full" if "full" in str(error) else str(error)
            raise LedgerError(f"the journal cannot be used: {what}", self._where) from error
        except (ValueError, KeyError, TypeError, FormatError) as error:
            raise LedgerError("the journal is damaged", self._where, "keep a copy of the file") from error
