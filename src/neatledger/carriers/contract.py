"""What every carrier offers.

A carrier is asked three things of a step: how the thing stands now (`look`), what must be known to finish the step or
take it back if all stops in the middle (`prepare`, written down before anything is made), and to make it (`make`). To
make it again with the same details finishes what was begun, and changes nothing where it was finished.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, replace
from datetime import date
from enum import Enum
from pathlib import Path
from typing import Any, Protocol, runtime_checkable

from neatledger.core.people.credentials import Credentials
from neatledger.core.steps.accounts import WholeAccountStep
from neatledger.core.steps.contract import Step
from neatledger.core.survey.accounts import AccountState
from neatledger.sources.contract import SourceContext

__all__ = [
    "ByHand",
    "Carrier",
    "CarrierContext",
    "Details",
    "Foresees",
    "Looked",
    "SetsPasswords",
    "Standing",
    "TellsMade",
    "why_not_plain",
]

Details = dict[str, Any]
"""Values of JSON; never a password, and never a link's address."""


class Standing(Enum):
    """How the thing of a step stands: as before it, as after it, between the two, or otherwise."""

    BEFORE = "before"
    AFTER = "after"
    BETWEEN = "between"
    OTHER = "other"


@dataclass(frozen=True, slots=True)
class Looked:
    """How a thing stands now, and in words what is otherwise than a step expects."""

    standing: Standing
    message: str = ""


@dataclass(frozen=True, slots=True)
class CarrierContext:
    """What a carrier may use: the office's folder, the system's settings, and who gives names and passwords."""

    system: str
    office_dir: Path
    settings: Mapping[str, Any]
    credentials: Callable[[str, str], Credentials]
    account_credentials: Callable[[str, str], Credentials] | None = None

    def for_accounts(self) -> CarrierContext:
        """Return the same, with the names and passwords for where accounts are kept."""
        return replace(self, credentials=self.account_credentials or self.credentials)

    def as_source(self) -> SourceContext:
        """Return the same as those take it who read the system."""
        return SourceContext(
            self.system, self.office_dir, self.settings, date.today(), lambda _: None, self.credentials
        )


class ByHand(Protocol):
    """Says why a person must make a step, by it and the system's settings; nothing where the carrier can."""

    def __call__(self, step: Step, settings: Mapping[str, Any]) -> str: ...


@runtime_checkable
class SetsPasswords(Protocol):
    """A carrier that can give an account a first password."""

    def first_password(self, login: str) -> str:
        """Give it one by the system's own rule, and return it; raises `StepError` and `SourceError`."""


@runtime_checkable
class Foresees(Protocol):
    """A carrier that can tell beforehand, changing nothing, that its system would not take a step."""

    def foresee(self, step: Step) -> str:
        """Say why it would not; nothing where that is not known. Raises `StepError` and `SourceError`."""


@runtime_checkable
class TellsMade(Protocol):
    """A carrier of a system that may make something else of what it is given, as a server that folds lists."""

    def made_of(self, step: Step, details: Details) -> Step | None:
        """Return a step that was made as it came out; None where that cannot be told, or all is as before it."""


class Carrier(Protocol):
    """Makes steps on one system; raises `StepError` where it is refused, and `SourceError` out of reach."""

    def look(self, step: Step, details: Details | None = None) -> Looked:
        """Read the thing anew; with `details` what was begun with them is told as `BETWEEN`."""

    def prepare(self, step: Step) -> Details:
        """Return what must be known to finish or undo the step."""

    def make(self, step: Step, details: Details) -> None:
        """Make the step, or finish it."""

    def settle(self) -> None:
        """Return when what was made by now would outlast a power cut."""

    def close(self) -> None:
        """Let go of the system."""


def why_not_plain(step: WholeAccountStep) -> str:
    """Say why an account must be made or removed by a person; nothing where it is open and in no group."""
    is_plain = step.account.state is AccountState.OPEN and not step.groups
    return "" if is_plain else "an account in groups, or one that is closed, a person must make or remove"
