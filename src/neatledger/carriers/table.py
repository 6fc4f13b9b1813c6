"""The carriers: of folders and files by a system's source, of accounts by where those are kept, and of sharing.

Adding one is a file beside this one and a row here.
"""

from __future__ import annotations

from collections.abc import Mapping
from importlib import import_module
from typing import Any

from neatledger.carriers.contract import (
    ByHand,
    Carrier,
    CarrierContext,
    Details,
    Foresees,
    Looked,
    SetsPasswords,
    TellsMade,
)
from neatledger.core.steps.contract import Step
from neatledger.errors import SourceError, StepError

__all__ = ["ACCOUNTS", "FILES", "SHARING", "SystemCarrier", "by_hand"]

FILES: dict[str, tuple[str, str]] = {
    "smb": ("neatledger.carriers.smb", "SmbCarrier"),
    "tree": ("neatledger.carriers.tree", "TreeCarrier"),
}
"""Source → the module of the carrier of its folders, with `by_hand` in it, and the class there."""

ACCOUNTS: dict[str, tuple[str, str]] = {
    "group": ("neatledger.carriers.groupfile", "GroupFile"),
    "ldap": ("neatledger.carriers.directory", "DirectoryCarrier"),
    "scim": ("neatledger.carriers.scim", "ScimCarrier"),
}
"""Where the plan says that accounts are kept → the module of its carrier, and the class there."""

SHARING: dict[str, tuple[str, str]] = {
    "url": ("neatledger.carriers.sharing", "SharingCarrier"),
}
"""How what is shared is told → the module of its carrier, and the class there."""

_PARTS = {
    **dict.fromkeys(("list", "files", "folder", "push", "share", "limit"), "files"),
    **dict.fromkeys(("group", "member", "account", "service", "whole account"), "accounts"),
    **dict.fromkeys(("team folder", "hand-out", "link", "device"), "sharing"),
}
_ELSEWHERE = {
    "files": "the folders of a system of this sort are changed by its own tools",
    "accounts": "its accounts are changed in its own console",
    "sharing": "what it shares is changed by its own tools",
}


def _row(part: str, settings: Mapping[str, Any]) -> tuple[str, str] | None:
    """Return which carrier makes a part of a system's steps; None where none does."""
    if part == "files":
        return FILES.get(str(settings.get("source", "")))
    setting = settings.get("accounts" if part == "accounts" else "sharing")
    rows = ACCOUNTS if part == "accounts" else SHARING
    return next((row for key, row in rows.items() if isinstance(setting, Mapping) and key in setting), None)


def by_hand(step: Step, settings: Mapping[str, Any]) -> str:
    """Say why a person must make a step on a system with these settings; nothing where a carrier can."""
    row = _row(_PARTS[step.kind], settings)
    if row is None:
        return _ELSEWHERE[_PARTS[step.kind]]
    ask: ByHand = import_module(row[0]).by_hand
    return ask(step, settings)


class SystemCarrier:
    """All the carriers of one system, each opened when a step first needs it."""

    def __init__(self, context: CarrierContext) -> None:
        self._context = context
        self._open: dict[str, Carrier] = {}
        self._refused: dict[str, StepError | SourceError] = {}

    def first_password(self, login: str) -> str:
        """Give an account a new first password, and return it: nobody else is told, and it is kept nowhere.

        Raises `StepError` where the system's own tools must do it, and `SourceError` out of reach.
        """
        carrier = self._opened("accounts")
        if not isinstance(carrier, SetsPasswords):
            where = f"{self._context.system}: {login}"
            raise StepError("a password there is set with the system's own tools", where, f"as with: passwd {login}")
        return carrier.first_password(login)

    def _of(self, step: Step) -> Carrier:
        return self._opened(_PARTS[step.kind])

    def _opened(self, part: str) -> Carrier:
        if part in self._refused:
            # A wrong password is tried once: some systems lock an account after a few.
            raise self._refused[part]
        if part not in self._open:
            row = _row(part, self._context.settings)
            if row is None:
                raise StepError(_ELSEWHERE[part], self._context.system, "mend --script says what to do")
            context = self._context.for_accounts() if part == "accounts" else self._context
            try:
                carrier: Carrier = getattr(import_module(row[0]), row[1])(context)
            except (StepError, SourceError) as error:
                self._refused[part] = error
                raise
            self._open[part] = carrier
        return self._open[part]

    def foresee(self, step: Step) -> str:
        """Say why the system would not take a step, as far as that can be known; nothing is changed by asking."""
        try:
            carrier = self._of(step)
            return carrier.foresee(step) if isinstance(carrier, Foresees) else ""
        except (StepError, SourceError) as error:
            return error.what

    def look(self, step: Step, details: Details | None = None) -> Looked:
        """Read the thing anew."""
        return self._of(step).look(step, details)

    def prepare(self, step: Step) -> Details:
        """Return what must be known to finish or undo the step."""
        return self._of(step).prepare(step)

    def make(self, step: Step, details: Details) -> None:
        """Make the step, or finish it."""
        self._of(step).make(step, details)

    def made_of(self, step: Step, details: Details) -> Step | None:
        """Return a step as its system made it; None where that cannot be told."""
        carrier = self._of(step)
        return carrier.made_of(step, details) if isinstance(carrier, TellsMade) else None

    def settle(self) -> None:
        """Return when what was made by now would outlast a power cut."""
        for carrier in self._open.values():
            carrier.settle()

    def close(self) -> None:
        """Let go of the system."""
        for carrier in self._open.values():
            carrier.close()
        self._open.clear()
