"""Carrying steps out, going on with a run that was stopped, and taking one back."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from datetime import datetime

from neatledger.carriers.contract import Carrier, CarrierContext
from neatledger.carriers.table import SystemCarrier, by_hand
from neatledger.core.people.credentials import Credentials
from neatledger.core.steps.accounts import AccountStep
from neatledger.core.steps.contract import Step
from neatledger.core.survey.accounts import AccountState
from neatledger.errors import NeatError, StepError, UsageError
from neatledger.ledger.journal import Journal, Run
from neatledger.questions.making import BY_HAND, Carried, Judge, Maker
from neatledger.questions.office import Office

__all__ = [
    "BY_HAND",
    "Carried",
    "Carriers",
    "carry_out",
    "go_on",
    "is_undone",
    "undo",
    "undoable",
    "why_by_hand",
]


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
    return "nothing in its entry closes it: its password must go (mend --script has the line), and its groups"


@contextmanager
def alone(office: Office) -> Iterator[None]:
    """Keep others who share the ledger from carrying anything out meanwhile; raises `StepError` where one does.

    A process that is killed, or loses its connection, holds nobody up.
    """
    with office.ledger.held("carrying-out") as is_ours:
        if not is_ours:
            raise StepError(
                "somebody else is carrying something out", hint="wait until that has ended, and count again"
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

    Where a system made something else of a step, `judge` says what the difference means for somebody. `groups` has
    for each step the number of those that it hangs together with: where a system refuses one, or it is not as it was,
    these are left and the others made. Without, the first that is refused stops it.
    """
    _refuse_beside(journal)
    for step in steps:
        carriers.of(step.system)
        why = carriers.why_by_hand(step)
        if why:
            raise StepError(f"a person must make this step: {why}", step.where)
    run = Run(journal.begin(steps, clock(), None, groups), clock(), steps, None, groups)
    return Maker(journal, run, carriers, clock, judge=judge).make_open()


def go_on(journal: Journal, carriers: Carriers, clock: Callable[[], datetime]) -> Carried:
    """Finish the newest run, which was stopped; raises `UsageError` where none was."""
    run = _unfinished(journal)
    if run is None:
        raise UsageError("nothing waits to be gone on with", hint="mend --log shows what was made")
    return _maker(journal, run, carriers, clock).make_open()


def undo(journal: Journal, carriers: Carriers, clock: Callable[[], datetime]) -> Carried:
    """Take back the newest run that was not yet, newest step first; raises `UsageError` where there is none.

    What somebody has changed since is told, and left as it is.
    """
    waiting = _unfinished(journal)
    if waiting is not None and waiting.undoes is not None:
        return _maker(journal, waiting, carriers, clock).make_open()
    run, steps = undoable(journal)
    if run == 0:
        raise UsageError("nothing was made that could be taken back", hint="mend --log shows what was made")
    undoing = Run(journal.begin(steps, clock(), run), clock(), steps, run)
    return _maker(journal, undoing, carriers, clock).make_open()


def undoable(journal: Journal) -> tuple[int, Sequence[Step]]:
    """Return the newest run that was not taken back yet, and the steps that take it back; 0 where there is none."""
    runs = journal.runs()
    waiting = _unfinished(journal)
    if waiting is not None and waiting.undoes is not None:
        return waiting.undoes, [waiting.steps[place] for place in waiting.open_steps]
    run = next((one for one in reversed(runs) if one.undoes is None and not is_undone(one, runs)), None)
    return (0, []) if run is None else (run.id, [run.steps[place].inverse() for place in run.taken_back])


def _maker(journal: Journal, run: Run, carriers: Carriers, clock: Callable[[], datetime]) -> Maker:
    """Return what makes a run's open steps; one that takes another back knows what that one was made with."""
    if run.undoes is None:
        return Maker(journal, run, carriers, clock)
    other = next(one for one in journal.runs() if one.id == run.undoes)
    places = list(enumerate(other.taken_back))
    known = {number: other.intents.get(place, {}) for number, place in places}
    # What was begun and perhaps not finished is looked at with what was written down when it was begun.
    begun = {number: other.intents[place] for number, place in places if place not in other.made}
    return Maker(journal, run, carriers, clock, known, begun)


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
