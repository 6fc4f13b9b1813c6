"""What a command is handed: the office, the ledger, the clock and the streams.

The only reader of the environment and of today's date.
"""

from __future__ import annotations

import os
import re
import shlex
import shutil
import sys
from collections.abc import Callable, Mapping
from contextlib import suppress
from dataclasses import dataclass, field
from datetime import UTC, date, datetime
from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING, TextIO

from neatledger.core.people.credentials import Credentials
from neatledger.errors import NeatError, OfficeError, SourceError, UsageError
from neatledger.faces.output import Output
from neatledger.faces.progress import Progress, Waits
from neatledger.faces.view import WHOLE, View
from neatledger.keyrings import keep_password, password_of
from neatledger.office.read import PLAN_NAME
from neatledger.questions import Office, open_office
from neatledger.questions.seen import caveats, last_line
from neatledger.reports.report import Report

if TYPE_CHECKING:
    from neatledger.cluster import Cluster
    from neatledger.processes import Processes

__all__ = ["App", "Options", "Streams"]


@dataclass(slots=True)
class Streams:
    """Where output and messages go, and how wide and high a terminal is (0: not a terminal)."""

    out: TextIO
    err: TextIO
    width: int
    is_colored: bool
    height: int = 0

    @classmethod
    def of_process(cls, env: Mapping[str, str]) -> Streams:
        """Return the streams of this process; ``COLUMNS`` sets a width even in a pipe."""
        if sys.stdout is None:
            raise UsageError("there is nowhere to write to: its output is closed")
        is_terminal = sys.stdout.isatty()
        said = env.get("COLUMNS", "")
        told = int(said) if said.isdecimal() and len(said) < 5 else 0
        width = shutil.get_terminal_size().columns if is_terminal else told
        is_colored = is_terminal and "NO_COLOR" not in env and env.get("TERM") != "dumb"
        height = shutil.get_terminal_size().lines if is_terminal else 0
        return cls(sys.stdout, sys.stderr, width, is_colored, height)


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
    view: View = WHOLE
    is_paged: bool = True
    on: str = ""


@dataclass
class App:
    """One run of the command."""

    options: Options
    streams: Streams
    env: Mapping[str, str] = field(default_factory=dict)
    collected: list[Report] | None = None
    """Where results go in place of being shown, if anywhere: what asks many offices shows them itself."""
    _workers: Cluster | Processes | None = field(default=None, repr=False)
    _asked: Office | None = field(default=None, repr=False)
    """The office, once a command asked it."""
    _prompted: dict[tuple[str, str], str] = field(default_factory=dict, repr=False)

    @classmethod
    def of_process(cls, options: Options) -> App:
        """Return the app for this process."""
        return cls(options, Streams.of_process(os.environ), os.environ)

    @cached_property
    def office_dir(self) -> Path:
        """The folder of office.yaml: --office, NEATLEDGER_OFFICE, or the nearest one from here upwards."""
        named = self.options.office or self.env.get("NEATLEDGER_OFFICE")
        if named:
            return Path(named).expanduser()
        here = Path.cwd()
        for folder in (here, *here.parents):
            if (folder / PLAN_NAME).is_file():
                return folder
        raise OfficeError(
            "there is no office here",
            str(here),
            "name it with --office, or make one: neatledger connect NAME=ADDRESS",
        )

    @property
    def new_office_dir(self) -> Path:
        """The folder in which an office is to be made: --office, NEATLEDGER_OFFICE, or here."""
        named = self.options.office or self.env.get("NEATLEDGER_OFFICE")
        return Path(named).expanduser() if named else Path.cwd()

    @cached_property
    def office(self) -> Office:
        """The office that questions are put to."""
        self._asked = open_office(
            self.office_dir,
            as_of=self.options.as_of,
            today=self.today,
            ledger_at=self.env.get("NEATLEDGER_LEDGER", ""),
        )
        if self.options.on:
            from neatledger.cluster import connect

            # Whom a question is given to is known by what the plan says of them.
            self._workers = connect(self.options.on, self._asked.plan.workers, self.office_dir)
            self._asked = self._asked.with_workers(self._workers)
        return self._asked

    def ledger_damage(self) -> str:
        """Say what in the ledger is damaged, where a command opened one: what nobody thought of may come of that."""
        opened = self._asked.books.opened if self._asked is not None else None
        return opened.damage() if opened is not None else ""

    def ledger_failure(self, error: Exception) -> NeatError | None:
        """Return in words what the ledger's engine raised while it was asked; None for an error of something else."""
        return None if self._asked is None else self._asked.books.failure_of(error)

    def end(self) -> None:
        """Tell others who share the ledger of a plan that is new to it."""
        if self._asked is not None and self._asked.books.are_shared:
            import getpass
            import platform

            self._asked.note_plan(f"{getpass.getuser()} at {platform.node()}", self.clock)

    def close(self) -> None:
        """Close the ledger, where it was opened."""
        if self._asked is not None:
            self._asked.books.close()
        if self._workers is not None:
            self._workers.close()

    @property
    def output(self) -> Output:
        """Where the result goes, and in which form; who asks for it has an answer, and waits no more."""
        self.waits.hold()
        options, streams = self.options, self.streams
        return Output(
            options.format,
            options.output,
            streams.out,
            streams.width,
            streams.is_colored,
            self._caveats,
            options.view,
            streams.height,
            self._pager(),
            self.collected,
            self._counted,
            self._last,
            None if self._asked is None else self._asked.shortened,
        )

    def _pager(self) -> tuple[str, ...]:
        """Return the words that start the pager: PAGER, else less; none where there is nobody to leave it."""
        if not self.options.is_paged or not self.streams.height or not sys.stdin or not sys.stdin.isatty():
            return ()
        words = shlex.split(self.env["PAGER"]) if "PAGER" in self.env else ["less"]
        if not words or words[0] == "cat" or shutil.which(words[0]) is None:
            return ()
        # As others start it: what fits is only printed, colours are colours, and the screen stays as it was.
        return (*words, "-FRX") if words == ["less"] else tuple(words)

    def _counted(self) -> tuple[int, list[str]]:
        """Return the number of the count that was asked, and its systems; none where the command asked no office."""
        if self._asked is None or not self._asked.has_count:
            return 0, []
        return self._asked.count.id, [one.system for one in self._asked.count.surveys]

    def _caveats(self, is_assured: bool = False) -> list[str]:
        """Return what to bear in mind of what was read; nothing where the command asked no office."""
        return [] if self._asked is None else caveats(self._asked, is_assured=is_assured)

    def _last(self, is_assured: bool = False) -> str:
        """Return the last line: which count was asked, and what was not seen of it."""
        return "" if self._asked is None or self.is_of_plan else last_line(self._asked, is_assured=is_assured)

    @property
    def is_of_plan(self) -> bool:
        """Tell whether the question is put to the plan alone."""
        return self.options.side == "plan"

    @property
    def today(self) -> date:
        """Today, or what --today says."""
        return self.options.today or date.today()

    @property
    def clock(self) -> datetime:
        """What this machine's clock says (UTC), whatever --today says."""
        return datetime.now(UTC)

    @property
    def now(self) -> datetime:
        """The moment (UTC), or noon of what --today says."""
        if self.options.today:
            return datetime.combine(self.options.today, datetime.min.time().replace(hour=12)).astimezone(UTC)
        return self.clock

    def progress(self, label: str) -> Progress:
        """Return what shows the progress of long work on a terminal."""
        return Progress(self.waits, label)

    @cached_property
    def waits(self) -> Waits:
        """What is being waited for; how long it took the last time is known by the office's folder."""
        waits = Waits(self.streams.err, quiet=self.options.quiet)
        if waits.shows:
            from neatledger.faces.durations import Durations

            with suppress(NeatError):
                waits.durations = Durations(self.env, self.office_dir)
        return waits

    def credentials_for(self, system: str) -> Callable[[str, str], Credentials]:
        """Return what gives the name and the password for a system's hosts.

        From the environment (``NEATLEDGER_USER_…``, ``NEATLEDGER_PASSWORD_…`` with the system's name in
        capitals), else the keyring (service ``neatledger SYSTEM``), else a prompt on a terminal. For its accounts
        (``SYSTEM accounts``), which may be kept elsewhere, first those of that name are taken.
        """
        names = [system, system.partition(" ")[0]] if " " in system else [system]
        words = [re.sub(r"[^A-Z0-9]", "_", name.upper()) for name in names]
        word, system = words[0], names[-1]

        def find(user: str, host: str) -> Credentials:
            user = next((said for one in words if (said := self.env.get(f"NEATLEDGER_USER_{one}"))), user)
            if not user:
                raise SourceError(f"nobody to sign in as at {host}", system, "name the user in the plan")
            password = self._prompted.get((host, user))
            for one, name in zip(words, names, strict=True):
                password = password or self.env.get(f"NEATLEDGER_PASSWORD_{one}")
                password = password or password_of(f"neatledger {name}", user)
            if password is None and sys.stdin.isatty() and sys.stderr.isatty():
                import getpass

                self.waits.hold()
                password = getpass.getpass(f"Password of {user} at {host}: ", sys.stderr)
                # Asked once a run: what is tried at first may be asked for again.
                self._prompted[host, user] = password
            if not password:
                hint = f"set NEATLEDGER_PASSWORD_{word}, or keep it in the keyring as 'neatledger {system}'"
                raise SourceError(f"no password for {user} at {host}", system, hint)
            return Credentials(user, password)

        return find

    def signer(self, key: str, namespace: str) -> Callable[[bytes], str]:
        """Return what signs by an SSH key in a file; its passphrase as passwords are (``NEATLEDGER_PASSWORD_KEY``).

        Raises `SourceError` where the key cannot be read.
        """
        from neatledger.formats.signature import is_locked, sign

        try:
            private = Path(key).expanduser().read_bytes()
        except OSError as error:
            raise SourceError(f"the key cannot be read: {error.strerror}", key) from None
        password = None
        if is_locked(private):
            password = self.credentials_for("key")("the key", key).password
        return lambda message: sign(private, password, namespace, message)

    def ask(self, question: str) -> str:
        """Ask on the terminal, and return what is answered; nothing where there is nobody to ask."""
        if not (sys.stdin and sys.stdin.isatty() and sys.stderr.isatty()):
            return ""
        self.waits.hold()
        print(question, end="", file=self.streams.err, flush=True)
        return sys.stdin.readline().strip()

    def was_prompted(self, user: str) -> bool:
        """Tell whether somebody's password was asked for in this run."""
        return any(who == user for _, who in self._prompted)

    def keep_password(self, service: str, user: str) -> bool:
        """Keep the password that was asked for in the keyring of whoever runs this; tell whether it is kept."""
        found = next((one for (_, who), one in self._prompted.items() if who == user), None)
        return found is not None and keep_password(service, user, found)

    def agrees(self, question: str) -> bool:
        """Ask on the terminal, and tell whether the answer is yes; no where there is nobody to ask."""
        return self.ask(f"{question} [yes/no] ").casefold() in ("y", "yes")

    def complain(self, text: str) -> None:
        """Tell of an error that does not end the command, however quiet it is to be."""
        self.waits.clear()
        print(f"neatledger: {text}", file=self.streams.err)

    def say(self, text: str) -> None:
        """Tell the person something beside the result, unless asked to be quiet."""
        if not self.options.quiet:
            self.waits.clear()
            print(text, file=self.streams.err)
