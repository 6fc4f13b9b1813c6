"""What a sign is, and what it is found in.

Every sign says how much there was of it, and from how much on it is told. What is usual is taken from the past of the
same account and system; where there is too little of it, nothing is called unusual.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Mapping
from dataclasses import dataclass, field, fields
from datetime import UTC, date, datetime, tzinfo
from enum import Enum
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from neatledger.core.trail.records import Did, Record
from neatledger.core.trail.table import DIDS, TrailTable

__all__ = ["NUMBER", "Fetch", "History", "Known", "Sign", "SignKind", "Thresholds", "moment_of"]

Ints = NDArray[np.int64]
NUMBER = {did: number for number, did in enumerate(DIDS)}
"""What was done → its number in the column `did` of a table."""


class SignKind(Enum):
    """What sort of thing looks wrong."""

    ACCOUNT_TRIED = "account-tried"
    ACCOUNTS_TRIED = "accounts-tried"
    LEFT_BUT_ACTIVE = "left-but-active"
    UNKNOWN_ACCOUNT = "unknown-account"
    UNUSUAL_HOUR = "unusual-hour"
    UNUSUAL_PLACE = "unusual-place"
    MASS_DELETION = "mass-deletion"
    MASS_RENAMING = "mass-renaming"
    MASS_WRITING = "mass-writing"
    ONE_UNKNOWN_KIND = "one-unknown-kind"
    WIDENED_AND_NARROWED = "widened-and-narrowed"
    LOGGING_CHANGED = "logging-changed"
    NOTHING_WRITTEN = "nothing-written"


@dataclass(frozen=True, slots=True)
class Thresholds:
    """From how much on each sign is told; the names are those of the plan's settings."""

    failed_sign_ins: int = 10
    failed_accounts: int = 6
    burst_minutes: int = 10
    mass_files: int = 200
    mass_times: int = 5
    unknown_kind_files: int = 20
    widened_hours: int = 24
    silent_days: int = 4

    @classmethod
    def of(cls, settings: Mapping[str, int]) -> Thresholds:
        """Return the thresholds that a plan's settings give."""
        told = {one.name: settings.get(one.name.replace("_", "-")) for one in fields(cls)}
        return cls(**{name: value for name, value in told.items() if value is not None})


@dataclass(frozen=True, slots=True)
class Known:
    """What the ledger knows of a system's logins, in small letters, and of its kinds of files.

    `logins` are all that were found; `over` those that must not be used: login → (the first day, why); `kinds` are
    the endings of its files.
    """

    logins: frozenset[str] = frozenset()
    over: Mapping[str, tuple[date, str]] = field(default_factory=dict)
    kinds: frozenset[bytes] = frozenset()


@dataclass(frozen=True, slots=True)
class Sign:
    """One thing that looks wrong: of a system, an account, a path, and a time (UTC); empty: of none.

    `figure` is what was found and `threshold` from how much on it is told; `words` say the same in a sentence.
    """

    kind: SignKind
    system: str
    login: str
    path: bytes
    first: datetime
    last: datetime
    figure: int
    threshold: int
    words: str

    @classmethod
    def of(
        cls, history: History, kind: SignKind, span: tuple[int, int], figure: int, threshold: int, words: str,
        *, login: str = "", path: bytes = b"",
    ) -> Sign:  # fmt: skip
        """Return a sign of a history; `span` are its first and last second."""
        first, last = map(moment_of, span)
        return cls(kind, history.table.system, login, path, first, last, figure, threshold, words)


Fetch = Callable[[str, Did, int, int], Iterable[Record]]
"""Returns the records of a login, a deed, and a time: the first second and the first that is too late."""


@dataclass
class History:
    """The records of one system, of which those from `since` to `now` (seconds since 1970, UTC) are looked at.

    What `table` has from before is the past in which the usual is looked for. `zone` is where people work (None:
    where this runs).
    """

    table: TrailTable
    since: int
    now: int
    limits: Thresholds
    known: Known
    fetch: Fetch
    zone: tzinfo | None = None

    @cached_property
    def _by_login(self) -> tuple[Ints, Ints]:
        order = np.argsort(self.table.who, kind="stable")
        return order, np.searchsorted(self.table.who[order], np.arange(len(self.table.logins) + 1))

    def accounts(self) -> Iterator[tuple[str, Ints]]:
        """Yield the logins that did anything since `since`, with the rows of all that they ever did."""
        order, ends = self._by_login
        for number, login in enumerate(self.table.logins):
            rows = order[ends[number] : ends[number + 1]]
            if len(rows) and self.table.moments[rows[-1]] >= self.since:
                yield login, rows

    def done(self, rows: Ints, did: Did, *, is_done: bool = True) -> Ints:
        """Return those of some rows that were done so, or refused."""
        wanted: NDArray[np.bool_] = (self.table.did[rows] == NUMBER[did]) & (self.table.is_done[rows] == is_done)
        return rows[wanted]

    def addresses(self, rows: Ints) -> set[str]:
        """Return the addresses from which some rows came, those that are known."""
        return {self.table.places[one] for one in np.unique(self.table.addresses[rows]).tolist() if one >= 0}


def moment_of(seconds: int) -> datetime:
    """Return a moment (UTC)."""
    return datetime.fromtimestamp(seconds, UTC)
