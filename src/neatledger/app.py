"""What a command is handed: the office, the ledger, the clock and the streams.

The only reader of the environment and of today's date.
"""

from __future__ import annotations

import os
import re
import shutil
import sys
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field, replace
from datetime import UTC, date, datetime
from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING, TextIO

from neatledger.core.people.credentials import Credentials
from neatledger.core.people.principals import Principal, find_principals
from neatledger.core.plan.plan import Plan
from neatledger.core.tree.address import Address
from neatledger.errors import OfficeError, SourceError, UnknownNameError, UsageError
from neatledger.ledger.reader import SurveyReader
from neatledger.ledger.store import CountInfo, Ledger, open_ledger
from neatledger.office.addresses import parse_address
from neatledger.office.read import PLAN_NAME, read_plan

if TYPE_CHECKING:
    from neatledger.ledger.services import Services

__all__ = ["LEDGER_NAME", "App", "Options", "Streams"]

LEDGER_NAME = "ledger.db"


@dataclass(slots=True)
class Streams:
    """Where output and messages go, and how wide a terminal is (0: not a terminal)."""

    out: TextIO
    err: TextIO
    width: int
    is_colored: bool

    @classmethod
    def of_process(cls, env: Mapping[str, str]) -> Streams:
        """Return the streams of this process; ``COLUMNS`` sets a width even in a pipe."""
        is_terminal = sys.stdout.isatty()
        width = shutil.get_terminal_size().columns if is_terminal else int(env.get("COLUMNS") or 0)
        is_colored = is_terminal and "NO_COLOR" not in env and env.get("TERM") != "dumb"
        return cls(sys.stdout, sys.stderr, width, is_colored)


@dataclass(frozen=True, slots=True)
class Options:
    """The options that every command has."""

    office: str | None = None
    side: str = "found"
    as_of: date | None = None
    today: date | None = None
    format: str = "table"
    output: str | None = None
    quiet: bool = False


@dataclass
class App:
    """One run of the command."""

    options: Options
    streams: Streams
    env: Mapping[str, str] = field(default_factory=dict)

    @classmethod
    def of_process(cls, options: Options) -> App:
        """Return the app for this process."""
        return cls(options, Streams.of_process(os.environ), os.environ)

    @cached_property
    def office_dir(self) -> Path:
        """The folder of office.yaml: --office, NEATLEDGER_OFFICE, or the nearest one from here upwards."""
        named = self.options.office or self.env.get("NEATLEDGER_OFFICE")
        if named:
            return Path(named)
        here = Path.cwd()
        for folder in (here, *here.parents):
            if (folder / PLAN_NAME).is_file():
                return folder
        raise OfficeError("there is no office here", str(here), "name it with --office, or make one: neatledger new")

    @property
    def today(self) -> date:
        """Today, or what --today says."""
        return self.options.today or date.today()

    @property
    def now(self) -> datetime:
        """This moment (UTC), or noon of what --today says."""
        if self.options.today:
            return datetime.combine(self.options.today, datetime.min.time().replace(hour=12)).astimezone(UTC)
        return datetime.now(UTC)

    @cached_property
    def plan(self) -> Plan:
        """The plan of the office."""
        return replace(read_plan(self.office_dir), today=self.today)

    def open_ledger(self, *, create: bool = False) -> Ledger:
        """Open the office's ledger."""
        return open_ledger(self.office_dir / LEDGER_NAME, create=create)

    @cached_property
    def ledger(self) -> Ledger:
        """The office's ledger; raises `NoCountError` where there is none yet."""
        # A plan with faults is told before a ledger that is not there yet.
        assert self.plan
        return self.open_ledger()

    @cached_property
    def count(self) -> CountInfo:
        """The count that questions are put to."""
        return self.ledger.find_count(self.options.as_of)

    def readers_of(self, count: CountInfo) -> dict[str, SurveyReader]:
        """Return a reader for each system of a count."""
        return {info.system: self.ledger.read_survey(info) for info in count.surveys}

    @cached_property
    def readers(self) -> dict[str, SurveyReader]:
        """A reader for each system of the count."""
        return self.readers_of(self.count)

    def principals_of(self, readers: Mapping[str, SurveyReader]) -> dict[str, list[Principal]]:
        """Return every system's accounts with the people who have them."""
        return find_principals(self.plan, {system: reader.found_accounts for system, reader in readers.items()})

    @cached_property
    def principals(self) -> dict[str, list[Principal]]:
        """Every system's accounts with the people who have them."""
        return self.principals_of(self.readers)

    def services_of(self, readers: Mapping[str, SurveyReader], day: date) -> Services:
        """Return the systems of a count with what is shared on them, judged for a day."""
        from neatledger.ledger.services import Services

        return Services(self.plan, readers, self.principals_of(readers), day)

    @cached_property
    def services(self) -> Services:
        """The systems of the count with what is shared on them, judged for today (or the day of --as-of)."""
        from neatledger.ledger.services import Services

        return Services(self.plan, self.readers, self.principals, self.options.as_of or self.today)

    def address(self, text: str) -> Address:
        """Parse a folder's address from the command line; raises `UsageError` or `UnknownNameError`."""
        if ":" not in text:
            if len(self.plan.systems) == 1:
                text = f"{next(iter(self.plan.systems))}:{text}"
            else:
                raise UsageError(f"not a folder address: {text!r}", hint="write system:/path, as in barn:/Records")
        address = parse_address(text)
        if address.system not in self.plan.systems:
            known = ", ".join(self.plan.systems)
            raise UnknownNameError(f"no system is named {address.system!r}", hint=f"there are: {known}")
        return address

    def reader(self, system: str) -> SurveyReader:
        """Return the reader of one system; raises `UnknownNameError` where the count lacks it."""
        if system not in self.readers:
            raise UnknownNameError(f"the count does not hold the system {system!r}", hint="run: neatledger gather")
        return self.readers[system]

    def credentials_for(self, system: str) -> Callable[[str, str], Credentials]:
        """Return what gives the name and the password for a system's hosts.

        From the environment (``NEATLEDGER_USER_…``, ``NEATLEDGER_PASSWORD_…`` with the system's name in
        capitals), else the keyring (service ``neatledger SYSTEM``), else a prompt on a terminal.
        """
        word = re.sub(r"[^A-Z0-9]", "_", system.upper())

        def find(user: str, host: str) -> Credentials:
            user = self.env.get(f"NEATLEDGER_USER_{word}") or user
            if not user:
                raise SourceError(f"nobody to sign in as at {host}", system, "name the user in the plan")
            password = self.env.get(f"NEATLEDGER_PASSWORD_{word}") or _from_keyring(f"neatledger {system}", user)
            if password is None and sys.stdin.isatty() and sys.stderr.isatty():
                import getpass

                password = getpass.getpass(f"Password of {user} at {host}: ", sys.stderr)
            if not password:
                hint = f"set NEATLEDGER_PASSWORD_{word}, or keep it in the keyring as 'neatledger {system}'"
                raise SourceError(f"no password for {user} at {host}", system, hint)
            return Credentials(user, password)

        return find

    def say(self, text: str) -> None:
        """Tell the person something beside the result, unless asked to be quiet."""
        if not self.options.quiet:
            print(text, file=self.streams.err)


def _from_keyring(service: str, user: str) -> str | None:
    import keyring
    from keyring.errors import KeyringError

    try:
        return keyring.get_password(service, user)
    except (KeyringError, ImportError, AttributeError, TypeError, RuntimeError):
        # No keyring here, or one that is set up badly: the prompt or the error says what to do.
        return None
