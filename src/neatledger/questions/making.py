"""Making the open steps of one run: each looked at anew, written down, made, and looked at again.

Steps go in batches, so that the journal is written twice a batch and not twice a step: first what is meant to be
made, with what must be known to finish it; then the steps are made one after the other; then that they were. Whenever
it is stopped, each step of the batch stands as before, as after, or between the two, and the system itself tells.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import Protocol

from neatledger.carriers.contract import Carrier, Details, Looked, Standing, TellsMade
from neatledger.core.steps.contract import Step
from neatledger.core.steps.folders import FolderStep
from neatledger.core.steps.lists import TreeStep
from neatledger.core.steps.table import step_to_facts
from neatledger.errors import NeatError, StepError
from neatledger.ledger.journal import Event, Journal, Run
from neatledger.questions.beside import SystemChange

__all__ = ["BY_HAND", "Carried", "Judge", "MadeOtherwise", "Maker"]

_BATCH = 64
_SO_ALREADY = "it was so already"
_NEVER_MADE = "it was meant, and never made"
BY_HAND = "stopped by hand"
"""Why a run stopped that somebody stopped while it went."""


@dataclass(frozen=True, slots=True)
class Carried:
    """How a run ended: what was made, what was left and why, and why it stopped (empty: it did not).

    One that `is_over` leaves nothing to go on with, for it ended, or stopped before anything was begun.
    """

    run: int
    made: Sequence[Step]
    left: Sequence[tuple[Step, str]]
    stopped: str = ""
    waiting: Sequence[Step] = ()  # not come to
    begun: Sequence[Step] = ()  # begun, and perhaps made: going on and taking back look first
    is_over: bool = True
    otherwise: Sequence[MadeOtherwise] = ()


@dataclass(frozen=True, slots=True)
class MadeOtherwise:
    """A step as it was asked for and as its system made it, and who gains and loses what by the difference.

    Where that cannot be said before it is counted anew, `unclear` has the reason.
    """

    asked: Step
    made: Step
    changes: Sequence[SystemChange] = ()
    unclear: str = ""

    @property
    def means_the_same(self) -> bool:
        """Tell whether it gives everybody just what was asked."""
        return not self.changes and not self.unclear


Judge = Callable[[Sequence[Step], Step, Step], MadeOtherwise]
"""Judges a step as asked and as made, after some steps that were made before it."""


class Opens(Protocol):
    """Opens the carriers of an office's systems."""

    def of(self, system: str) -> Carrier:
        """Return a system's carrier."""


class Maker:
    """Makes the open steps of one run.

    `known` are details of steps that another run was made with, which its inverse needs too; `begun` those of steps
    that this other run did not finish.
    """

    def __init__(
        self,
        journal: Journal,
        run: Run,
        carriers: Opens,
        clock: Callable[[], datetime],
        known: dict[int, Details] | None = None,
        begun: dict[int, Details] | None = None,
        judge: Judge | None = None,
    ) -> None:
        self._journal, self._run, self._carriers, self._clock = journal, run, carriers, clock
        self._known, self._begun = known or {}, {**run.intents, **(begun or {})}
        self._has_begun = bool(self._begun)
        self._made: list[int] = []
        self._left: list[tuple[int, str]] = []
        # Of what another run meant to make, and nobody knows whether it did, what shows as never made.
        self._passed: list[tuple[int, str]] = []
        self._only_meant = set(begun or ()) - set(run.intents)
        self._at_work: int | None = None
        self._judge = judge
        self._otherwise: dict[int, MadeOtherwise] = {}
        # The first step of each group that was refused.
        self._refused_in: dict[int, Step] = {}
        for place in run.left:
            if run.groups is not None:
                self._refused_in.setdefault(run.groups[place], run.steps[place])

    def make_open(self) -> Carried:
        """Make what is open, batch by batch."""
        waiting = self._run.open_steps
        stopped = ""
        try:
            while waiting and not stopped:
                batch = self._batch(waiting)
                stopped = self._make_batch(batch)
                done = {*self._made, *(place for place, _ in (*self._left, *self._passed))}
                waiting = [place for place in waiting if place not in done]
        except KeyboardInterrupt:
            # What is made is made; of what was begun the journal says what was meant, which going on looks at.
            stopped = BY_HAND
        except BaseException as error:
            self._note_stop(str(error))
            raise
        is_over = not stopped or not (stopped == BY_HAND or self._run.undoes or self._has_begun)
        if stopped:
            self._note_stop(stopped)
        if is_over:
            self._journal.note(self._run.id, Event.ENDED, [(None, {})], self._clock())
        steps = self._run.steps
        left = [(steps[place], why) for place, why in self._left]
        done = {*self._made, *(place for place, _ in (*self._left, *self._passed))}
        open_steps = [place for place in waiting if place not in done]
        begun = [steps[place] for place in open_steps if place == self._at_work]
        waiting_steps = [steps[place] for place in open_steps if place != self._at_work]
        return Carried(
            self._run.id, [steps[place] for place in self._made], left, stopped, waiting_steps, begun, is_over,
            list(self._otherwise.values()),
        )  # fmt: skip

    def _note_stop(self, why: str) -> None:
        try:
            self._journal.note(self._run.id, Event.STOPPED, [(None, {"why": why})], self._clock())
        except NeatError:
            # The disk may be full, or the ledger gone: what was meant stands there all the same.
            return

    def _batch(self, waiting: Sequence[int]) -> list[int]:
        """Return the next steps that do not hang on each other: what one needs to know, no other one changes."""
        batch: list[int] = []
        taken: set[tuple[str, str]] = set()
        made: list[bytes] = []
        for place in waiting[:_BATCH]:
            step = self._run.steps[place]
            key = step.system, step.target.removesuffix(" (files)")
            path = step.place.path if step.place else b""
            if batch and (key in taken or any(path.startswith(one) for one in made)):
                break
            if batch and not isinstance(step, TreeStep):
                break
            batch.append(place)
            taken.add(key)
            if not isinstance(step, TreeStep):
                # Others change these too, and of what was meant nobody could say afterwards who made it; and who is
                # put into a group, and what names it or an account, is known when it is there.
                break
            if isinstance(step, FolderStep):
                made.append(step.path.rstrip(b"/"))
        return batch

    def _make_batch(self, batch: Sequence[int]) -> str:
        """Make some steps, and return why it goes no further (empty: it does)."""
        begun, stopped = self._prepare(batch)
        if begun:
            self._journal.note(self._run.id, Event.INTENT, begun, self._clock())
            self._has_begun = True
        made: list[tuple[int | None, dict[str, object]]] = []
        waiting = dict(begun)
        try:
            while waiting and not stopped:
                place, known = next(iter(waiting.items()))
                del waiting[place]
                if self._hangs(place):
                    self._not_made([place])
                    continue
                self._at_work = place
                message, is_final = self._tried(place, known)
                self._at_work = None
                if message in (_SO_ALREADY, _NEVER_MADE):
                    self._leave(place, message)
                elif message:
                    if is_final:
                        self._look_after(place, known)
                    stopped = self._refused(place, message, is_final=is_final)
                else:
                    made.append((place, self._made_as(place)))
                    self._made.append(place)
            # Stopped, and not killed: what was only meant was not made.
            self._not_made(waiting)
        finally:
            if made:
                for system in dict.fromkeys(self._run.steps[place].system for place, _ in begun):
                    self._carriers.of(system).settle()
                self._journal.note(self._run.id, Event.MADE, made, self._clock())
        return stopped

    def _prepare(self, batch: Sequence[int]) -> tuple[list[tuple[int, Details]], str]:
        """Return what must be known to finish or undo some steps, and why it goes no further (empty: it does)."""
        found: list[tuple[int, Details]] = []
        for place in batch:
            if self._hangs(place):
                continue
            step = self._run.steps[place]
            try:
                known = self._begun.get(place, self._known.get(place))
                found.append((place, known or self._carriers.of(step.system).prepare(step)))
            except NeatError as error:
                stopped = self._refused(place, str(error), is_final=isinstance(error, StepError))
                if stopped:
                    return found, stopped
        return found, ""

    def _tried(self, place: int, details: Details) -> tuple[str, bool]:
        """Make one step; return why it was not made, and whether its system has said so."""
        try:
            return self._make(place, details), True
        except NeatError as error:
            return str(error), isinstance(error, StepError)

    def _make(self, place: int, details: Details) -> str:
        """Make one step and look at it again; return why it was not made."""
        step, carrier = self._run.steps[place], self._carriers.of(self._run.steps[place].system)
        is_begun = place in self._begun
        looked = carrier.look(step, details if is_begun or self._known.get(place) else None)
        if looked.standing is Standing.AFTER and place in self._only_meant:
            return _NEVER_MADE
        if looked.standing is Standing.AFTER and not is_begun:
            # Somebody else made it: it is not for us to take back.
            return _SO_ALREADY
        if looked.standing is Standing.OTHER or (looked.standing is Standing.BETWEEN and not is_begun):
            return _where(step, looked)
        carrier.make(step, details)
        after = carrier.look(step, details)
        if after.standing is Standing.AFTER:
            return ""
        made = carrier.made_of(step, details) if isinstance(carrier, TellsMade) else None
        if made is None:
            return _where(step, Looked(after.standing, after.message or "it is not as it should be after that"))
        so_far = [self._run.steps[one] for one in self._made]
        found = MadeOtherwise(step, made) if self._judge is None else self._judge(so_far, step, made)
        self._otherwise[place] = found
        if not found.means_the_same and self._run.groups is not None:
            # What hangs together with it was worked out for what was asked.
            self._refused_in.setdefault(self._run.groups[place], step)
        return ""

    def _made_as(self, place: int) -> dict[str, object]:
        """Return what the journal keeps of a step that was made: what came of it, where that is another."""
        if place not in self._otherwise:
            return {}
        made = self._otherwise[place].made
        self._run.replace(place, made)
        return {"as": step_to_facts(made)}

    def _look_after(self, place: int, details: Details) -> None:
        """Take note that a step was not made at all, where its system shows that after having refused it."""
        step = self._run.steps[place]
        try:
            looked = self._carriers.of(step.system).look(step, details)
        except NeatError:
            return
        if looked.standing not in (Standing.BETWEEN, Standing.AFTER):
            self._not_made([place])

    def _not_made(self, places: Iterable[int]) -> None:
        notes: list[tuple[int | None, dict[str, object]]] = [
            (place, {}) for place in places if place not in self._begun
        ]
        if notes and self._run.undoes is None:
            self._journal.note(self._run.id, Event.NOT_MADE, notes, self._clock())

    def _hangs(self, place: int) -> bool:
        """Leave a step that hangs together with one that was refused; tell whether it does."""
        groups = self._run.groups
        refused = None if groups is None else self._refused_in.get(groups[place])
        if refused is None:
            return False
        self._leave(place, f"it hangs together with a step that was not made: {refused.where}")
        return True

    def _refused(self, place: int, why: str, *, is_final: bool) -> str:
        """Return why the run stops (empty: it goes on).

        A run that takes back leaves what was changed since; one that knows what hangs together leaves that. Where a
        system is out of reach nothing was said of the step, and it can be gone on with.
        """
        groups = self._run.groups
        if self._run.undoes is None and (groups is None or not is_final):
            return why
        if groups is not None:
            self._refused_in.setdefault(groups[place], self._run.steps[place])
        self._leave(place, why)
        return ""

    def _leave(self, place: int, why: str) -> None:
        (self._passed if why == _NEVER_MADE else self._left).append((place, why))
        self._journal.note(self._run.id, Event.LEFT, [(place, {"why": why})], self._clock())


def _where(step: Step, looked: Looked) -> str:
    return f"{step.where}: {looked.message or 'it is not as it was counted'}"
