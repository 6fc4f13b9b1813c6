"""Carrying steps out: each looked at anew, written down, made, and looked at again; gone on with, and taken back.

Steps go in batches, so that the journal is written twice a batch and not twice a step: first what is meant to be
made, with what must be known to finish it; then the steps are made one after the other; then that they were. Whenever
it is stopped, each step of the batch stands as before, as after, or between the two, and the system itself tells.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass
from datetime import datetime

from neatledger.carriers.contract import Carrier, CarrierContext, Details, Looked, Standing, TellsMade
from neatledger.carriers.table import SystemCarrier, by_hand
from neatledger.core.people.credentials import Credentials
from neatledger.core.steps.accounts import AccountStep
from neatledger.core.steps.contract import Step
from neatledger.core.steps.folders import FolderStep
from neatledger.core.steps.lists import TreeStep
from neatledger.core.steps.table import step_to_facts
from neatledger.core.survey.accounts import AccountState
from neatledger.errors import NeatError, StepError, UsageError
from neatledger.ledger.journal import Event, Journal, Run
from neatledger.questions.office import Office

__all__ = ["BY_HAND", "Carried", "Carriers", "carry_out", "go_on", "is_undone", "undo", "undoable", "why_by_hand"]

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
    otherwise: Sequence[tuple[Step, Step, str]] = ()  # as asked, as made, and what that means for somebody


Judge = Callable[[Sequence[Step], Step, Step], str]
"""Says, after some steps, of one as asked and as made what the difference means for somebody (empty: nothing)."""


class Carriers:
    """The carriers of an office's systems, each opened when a step first needs it."""

    def __init__(self, office: Office, credentials_for: Callable[[str], Callable[[str, str], Credentials]]) -> None:
        self._office, self._credentials_for = office, credentials_for
        self._open: dict[str, Carrier] = {}

    def of(self, system: str) -> Carrier:
        """Return a system's carrier; raises `StepError` where the plan does not let the system be changed."""
        if system not in self._open:
            planned = self._office.plan.systems.get(system)
            if planned is None or not planned.settings.get("may-change"):
                hint = "say may-change: true under it in office.yaml"
                raise StepError("the plan does not say that the tool may change this system", system, hint)
            mine, accounts = (self._credentials_for(name) for name in (system, f"{system} accounts"))
            context = CarrierContext(system, self._office.folder, planned.settings, mine, accounts)
            self._open[system] = SystemCarrier(context)
        return self._open[system]

    def first_password(self, system: str, login: str) -> str:
        """Give an account a new first password, and return it; raises `StepError` and `SourceError`."""
        carrier = self.of(system)
        assert isinstance(carrier, SystemCarrier)
        return carrier.first_password(login)

    def foresee(self, step: Step) -> str:
        """Say why a step's system would not take it, as far as signing in and looking tell; nothing is changed."""
        try:
            carrier = self.of(step.system)
        except NeatError as error:
            return error.what
        assert isinstance(carrier, SystemCarrier)
        return carrier.foresee(step)

    def why_by_hand(self, step: Step) -> str:
        """Say why a person must make a step; nothing where its system's carrier can."""
        return why_by_hand(self._office, step)

    def close(self) -> None:
        """Let go of all of them."""
        for carrier in self._open.values():
            carrier.close()
        self._open.clear()


def why_by_hand(office: Office, step: Step) -> str:
    """Say why a person must make a step; nothing where the tool can. Nothing is opened for that."""
    planned = office.plan.systems.get(step.system)
    if planned is None:
        return "the plan has no such system"
    why = by_hand(step, planned.settings)
    if not why and not planned.settings.get("may-change"):
        return "the plan does not say that the tool may change this system"
    return why or _why_not_closed(office, step)


def _why_not_closed(office: Office, step: Step) -> str:
    """Say what closes an account whose entry in its directory has no switch for it; nothing of other steps."""
    if not isinstance(step, AccountStep) or step.after is AccountState.OPEN or step.system not in office.readers:
        return ""
    account = next((one for one in office.readers[step.system].accounts if one.login == step.login), None)
    if account is None or not account.admission.lacks_switch:
        return ""
    return "nothing in its entry closes it: its password must go (mend --texts has the line), and its groups"


@contextmanager
def alone(office: Office) -> Iterator[None]:
    """Keep others who share the ledger from carrying anything out meanwhile; raises `StepError` where one does.

    A process that is killed, or loses its connection, holds nobody up.
    """
    with office.ledger.held("carrying-out") as is_ours:
        if not is_ours:
            raise StepError(
                "somebody else is carrying something out", hint="wait until that has ended, and gather again"
            )
        yield


def carry_out(
    journal: Journal,
    steps: Sequence[Step],
    carriers: Carriers,
    clock: Callable[[], datetime],
    groups: Sequence[int] | None = None,
    judge: Judge | None = None,
) -> Carried:
    """Carry steps out in their order. What it raises, it made nothing.

    Where a system made something else of a step, `judge` says of the step as asked and as made what that means for
    somebody; nothing where it means the same. `groups` has for each step the number of those that it hangs together
    with: where a system refuses one, or it is not as counted, these are left and the others made. Without, the first
    that is refused stops it.
    """
    _refuse_beside(journal)
    for step in steps:
        carriers.of(step.system)
        why = carriers.why_by_hand(step)
        if why:
            raise StepError(f"a person must make this step: {why}", step.where)
    run = Run(journal.begin(steps, clock(), None, groups), clock(), steps, None, groups)
    return _Driver(journal, run, carriers, clock, judge=judge).drive()


def go_on(journal: Journal, carriers: Carriers, clock: Callable[[], datetime]) -> Carried:
    """Finish the newest run, which was stopped; raises `UsageError` where none was."""
    run = _unfinished(journal)
    if run is None:
        raise UsageError("nothing waits to be gone on with", hint="mend --journal shows what was made")
    return _driver(journal, run, carriers, clock).drive()


def undo(journal: Journal, carriers: Carriers, clock: Callable[[], datetime]) -> Carried:
    """Take back the newest run that was not yet, newest step first; raises `UsageError` where there is none.

    What somebody has changed since is told, and left as it is.
    """
    waiting = _unfinished(journal)
    if waiting is not None and waiting.undoes is not None:
        return _driver(journal, waiting, carriers, clock).drive()
    run, steps = undoable(journal)
    if run == 0:
        raise UsageError("nothing was made that could be taken back", hint="mend --journal shows what was made")
    undoing = Run(journal.begin(steps, clock(), run), clock(), steps, run)
    return _driver(journal, undoing, carriers, clock).drive()


def undoable(journal: Journal) -> tuple[int, Sequence[Step]]:
    """Return the newest run that was not taken back yet, and the steps that take it back; 0 where there is none."""
    runs = journal.runs()
    waiting = _unfinished(journal)
    if waiting is not None and waiting.undoes is not None:
        return waiting.undoes, [waiting.steps[place] for place in waiting.open_steps]
    run = next((one for one in reversed(runs) if one.undoes is None and not is_undone(one, runs)), None)
    return (0, []) if run is None else (run.id, [run.steps[place].inverse() for place in run.taken_back])


def _driver(journal: Journal, run: Run, carriers: Carriers, clock: Callable[[], datetime]) -> _Driver:
    """Return what makes a run's open steps; one that takes another back knows what that one was made with."""
    if run.undoes is None:
        return _Driver(journal, run, carriers, clock)
    other = next(one for one in journal.runs() if one.id == run.undoes)
    places = list(enumerate(other.taken_back))
    known = {number: other.intents.get(place, {}) for number, place in places}
    # What was begun and perhaps not finished is looked at with what was written down when it was begun.
    begun = {number: other.intents[place] for number, place in places if place not in other.made}
    return _Driver(journal, run, carriers, clock, known, begun)


def is_undone(run: Run, runs: Sequence[Run]) -> bool:
    """Tell whether a run was taken back whole, or had made nothing and is over; one that waits is not."""
    has_made_nothing = run.is_ended and not (run.made or run.intents)
    return has_made_nothing or any(one.undoes == run.id and one.is_ended for one in runs)


def _unfinished(journal: Journal) -> Run | None:
    runs = journal.runs()
    newest = runs[-1] if runs else None
    return None if newest is None or newest.is_ended else newest


def _refuse_beside(journal: Journal) -> None:
    if _unfinished(journal) is not None:
        hint = "mend --go-on finishes it, mend --undo takes it back"
        raise StepError("something was begun and not finished", hint=hint)


class _Driver:
    """Makes the open steps of one run.

    `known` are details of steps that another run was made with, which its inverse needs too; `begun` those of steps
    that this other run did not finish.
    """

    def __init__(
        self,
        journal: Journal,
        run: Run,
        carriers: Carriers,
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
        self._otherwise: dict[int, tuple[Step, Step, str]] = {}
        # The first step of each group that was refused.
        self._refused_in: dict[int, Step] = {}
        for place in run.left:
            if run.groups is not None:
                self._refused_in.setdefault(run.groups[place], run.steps[place])

    def drive(self) -> Carried:
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
        means = "" if self._judge is None else self._judge(so_far, step, made)
        self._otherwise[place] = step, made, means
        if means and self._run.groups is not None:
            # What hangs together with it was worked out for what was asked.
            self._refused_in.setdefault(self._run.groups[place], step)
        return ""

    def _made_as(self, place: int) -> dict[str, object]:
        """Return what the journal keeps of a step that was made: what came of it, where that is another."""
        if place not in self._otherwise:
            return {}
        made = self._otherwise[place][1]
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
