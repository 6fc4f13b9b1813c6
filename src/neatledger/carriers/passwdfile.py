"""The file that accounts of a POSIX system are read from (passwd(5)), and that of their passwords (shadow(5)).

A new account has no password: nobody signs in with it before the system's own tool has set one.
"""

from __future__ import annotations

from collections.abc import Mapping
from datetime import date
from pathlib import Path
from typing import Any

from neatledger.carriers.accountlock import account_files_locked
from neatledger.carriers.contract import Details, Looked, Standing, why_not_plain
from neatledger.core.steps.accounts import AccountStep, WholeAccountStep
from neatledger.core.survey.accounts import Account, AccountState
from neatledger.errors import SourceError, StepError
from neatledger.files import write_file

__all__ = ["PasswdFile", "has_passed", "why_by_hand", "why_state_by_hand"]

_EPOCH = date(1970, 1, 1)


def why_by_hand(step: WholeAccountStep) -> str:
    """Say why such an account must be made by a person; nothing where a line of the file can say it."""
    account = step.account
    if why := why_not_plain(step):
        return why
    words = (account.login, account.name, account.home, account.shell)
    if any(set(word) & set(":\n\r") for word in words) or not account.login or account.login[0] in "-+#":
        return "a login or a name of this form cannot stand in a passwd file"
    if not account.ident.isdecimal() or not account.primary.isdecimal():
        return "an account of a passwd file needs a number, and a primary group"
    return ""


class PasswdFile:
    """One passwd file with its shadow file, if there is one: lines added at the end, or taken away again."""

    def __init__(self, path: Path, shadow: Path | None) -> None:
        self._path, self._shadow = path, shadow

    def look(self, step: WholeAccountStep) -> Looked:
        """Read the account anew."""
        account = step.account
        lines = _lines(self._path)
        alike = [one.split(":") for one in map(str.rstrip, lines) if _is_of(one, account)]
        is_made = step.after is not None
        if not alike:
            return Looked(Standing.BEFORE if is_made else Standing.AFTER)
        if len(alike) > 1 or ":".join(alike[0]) != _line(account):
            return Looked(Standing.OTHER, "its login or its number is another account's")
        if self._shadow is not None and not any(one.startswith(f"{account.login}:") for one in _lines(self._shadow)):
            # It stopped between the two files: making it again finishes it.
            return Looked(Standing.BEFORE if is_made else Standing.AFTER)
        return Looked(Standing.AFTER if is_made else Standing.BEFORE)

    def look_at_state(self, step: AccountStep) -> Looked:
        """Read anew whether an account is open: one whose last day has passed is not (shadow(5), field 8)."""
        is_over = has_passed(self._expires(step))
        return Looked(Standing.AFTER if is_over == (step.after is not AccountState.OPEN) else Standing.BEFORE)

    def details_of_state(self, step: AccountStep) -> Details:
        """Return the last day that stands there now."""
        return {"expires": self._expires(step)}

    def make_state(self, step: AccountStep, details: Details) -> None:
        """Let an account's last day have passed, or give it back the one that it had."""
        assert self._shadow is not None, "why_state_by_hand says so"
        # To take back what closed it is to give it the day that it had; one that has passed would keep it closed.
        was = str(details.get("expires", ""))
        day = "1" if step.after is not AccountState.OPEN else "" if has_passed(was) else was
        with account_files_locked(self._shadow.parent):
            lines = _lines(self._shadow)
            for place, line in enumerate(lines):
                fields = line.rstrip("\r\n").split(":")
                if fields[0] == step.login:
                    ending = line[len(line.rstrip("\r\n")) :]
                    fields[7] = day
                    lines[place] = ":".join(fields) + ending
            write_file(self._shadow, "".join(lines).encode("utf-8", "surrogateescape"))

    def _expires(self, step: AccountStep) -> str:
        assert self._shadow is not None, "why_state_by_hand says so"
        for line in _lines(self._shadow):
            fields = line.rstrip("\r\n").split(":")
            if fields[0] == step.login and len(fields) == 9:
                return fields[7]
        raise StepError("the shadow file has no such account", step.where, "count, and ask again")

    def make(self, step: WholeAccountStep) -> None:
        """Add the line, or take it away."""
        account = step.account
        with account_files_locked(self._path.parent):
            self._put(self._path, account, _line(account) if step.after else "")
            if self._shadow is not None:
                today = (date.today() - _EPOCH).days
                self._put(self._shadow, account, f"{account.login}:!:{today}:0:99999:7:::" if step.after else "")

    @staticmethod
    def _put(path: Path, account: Account, line: str) -> None:
        lines = [one for one in _lines(path) if not one.startswith(f"{account.login}:")]
        if line:
            if lines and not lines[-1].endswith("\n"):
                lines[-1] += "\n"
            lines.append(f"{line}\n")
        write_file(path, "".join(lines).encode("utf-8", "surrogateescape"))


def why_state_by_hand(step: AccountStep, settings: Mapping[str, Any]) -> str:
    """Say why an account must be opened or closed by a person; nothing where the shadow file says it."""
    if "shadow" not in settings["accounts"]:
        return "the plan names no shadow file of its accounts"
    return ""


def has_passed(day: str) -> bool:
    """Tell whether a last day, in days since 1970, is over (shadow(5), field 8); empty is none."""
    return day.isdecimal() and int(day) <= (date.today() - _EPOCH).days


def _is_of(line: str, account: Account) -> bool:
    fields = line.split(":")
    return fields[0] == account.login or fields[2:3] == [account.ident]


def _line(account: Account) -> str:
    words = (account.login, "x", account.ident, account.primary, account.name, account.home, account.shell)
    return ":".join(words)


def _lines(path: Path) -> list[str]:
    try:
        return path.read_bytes().decode("utf-8", "surrogateescape").splitlines(keepends=True)
    except OSError as error:
        raise SourceError(f"cannot be read: {error.strerror}", str(path)) from None
