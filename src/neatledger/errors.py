"""Every error that a user can meet.

    NeatError                 anything that stops a command; exit status 2
    ├── UsageError            the words of the call are wrong
    ├── OfficeError           no office here, or its files cannot be used
    │   └── PlanError         office.yaml has faults; all of them are carried together
    ├── LedgerError           the ledger cannot be read or written
    ├── NoCountError          a question needs a count that is not there
    ├── UnknownNameError      a person, group, folder or system nobody has heard of
    ├── SourceError           an outside system cannot be read at all
    ├── StepError             a step of a change does not fit what is there
    ├── MissingPartError      a library is wanted that is installed apart, and is not there
    └── FormatError           a text or a run of bytes is not what its format says

Each says *what* is wrong, *where*, and *what to do*. Faults in the data that is read are not errors
but values (`Fault`): they are collected, and the rest is still read.
"""

from __future__ import annotations

from dataclasses import dataclass

__all__ = [
    "UNREADABLE",
    "Fault",
    "FormatError",
    "LedgerError",
    "MissingPartError",
    "NeatError",
    "NoCountError",
    "OfficeError",
    "PlanError",
    "SourceError",
    "StepError",
    "UnknownNameError",
    "UsageError",
]


UNREADABLE = (ValueError, LookupError, TypeError, AttributeError, ArithmeticError)
"""What a library raises that takes apart what is no answer, beside errors of its own."""


class NeatError(Exception):
    """Something stops the command.

    Arguments: `what` is wrong, `where` (file, folder, system), and `hint`, what to do about it.
    """

    exit_status = 2

    def __init__(self, what: str, where: str = "", hint: str = "") -> None:
        super().__init__(what)
        self.what = what
        self.where = where
        self.hint = hint

    def __str__(self) -> str:
        text = f"{self.where}: {self.what}" if self.where else self.what
        return f"{text} ({self.hint})" if self.hint else text


class UsageError(NeatError):
    """The words of the call are wrong."""


class OfficeError(NeatError):
    """There is no office here, or its files cannot be used."""


@dataclass(frozen=True, slots=True)
class Fault:
    """One fault in data that was read: `where` it stands, what was `found`, what was `expected`."""

    where: str
    found: str
    expected: str

    def __str__(self) -> str:
        return f"{self.where}: found {self.found}; expected {self.expected}"


class PlanError(OfficeError):
    """office.yaml has faults; `faults` holds all of them in the order of the file."""

    def __init__(self, faults: list[Fault]) -> None:
        self.faults = faults
        super().__init__("\n".join(str(fault) for fault in faults))


class LedgerError(NeatError):
    """The ledger cannot be read or written."""


class NoCountError(NeatError):
    """A question needs a count that the ledger does not have."""


class UnknownNameError(NeatError):
    """A person, group, folder or system that neither the plan nor the count knows."""


class SourceError(NeatError):
    """An outside system cannot be read at all."""


class StepError(NeatError):
    """A step of a change does not fit what is there, or may not be made."""


class MissingPartError(NeatError):
    """A library is wanted that is installed apart, and is not there."""


class FormatError(NeatError):
    """A text or a run of bytes is not what its format says."""
