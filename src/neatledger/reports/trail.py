"""What was done, as rows; and what the reading of logs came to."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime
from enum import Enum
from typing import Protocol

from neatledger.core.checks.contract import Finding, Severity
from neatledger.core.checks.table import CHECKS
from neatledger.core.trail.folding import Fold
from neatledger.core.trail.records import Did, severity_of
from neatledger.core.tree.address import Address
from neatledger.formats.names import show_address
from neatledger.reports.assurances import assured
from neatledger.reports.facts import event_of, fact_of, filled
from neatledger.reports.report import (
    Aside,
    Cell,
    Column,
    Pointer,
    Report,
    Row,
    Show,
    count_of,
    moment_cell,
    section,
)

__all__ = ["kept_words", "logs_report", "signs_report", "trail_report"]

_COLUMNS = (
    Column("when", "WHEN", Show.PEOPLE),
    Column("moment", "MOMENT", Show.MACHINE),
    Column("until", "UNTIL", Show.MACHINE),
    Column("system", "SYSTEM", Show.MACHINE),
    Column("who", "WHO"),
    Column("login", "LOGIN", Show.MACHINE),
    Column("did", "DID", Show.MACHINE),
    Column("number", "TIMES", Show.MACHINE, number=True),
    Column("deed", "DID", Show.PEOPLE, wraps=True),
    Column("where", "WHERE", cuts=True),
    Column("to", "TO", Show.MACHINE),
    Column("is_folder", "FOLDER", Show.MACHINE),
    Column("done", "DONE", Show.MACHINE),
    Column("severity", "SEVERITY", Show.MACHINE),
    Column("address", "FROM", spare=True),
    Column("device", "DEVICE", Show.MACHINE),
    Column("detail", "DETAIL", Show.MACHINE),
)
_MANY = {
    Did.SIGN_IN: "signed in {:,} times",
    Did.OPEN: "opened {:,} files",
    Did.CHANGE: "changed {:,} files",
    Did.MAKE: "made {:,} there",
    Did.RENAME: "renamed {:,} there",
    Did.DELETE: "deleted {:,} there",
    Did.RIGHTS: "changed the rights of {:,} there",
    Did.ACCOUNT: "changed accounts {:,} times",
    Did.SHARE: "shared {:,} there",
    Did.LOGGING: "changed the logging {:,} times",
}
_REFUSED = {
    Did.SIGN_IN: "sign in", Did.OPEN: "open", Did.CHANGE: "change", Did.MAKE: "make", Did.RENAME: "rename",
    Did.DELETE: "delete", Did.RIGHTS: "change the rights of", Did.ACCOUNT: "change an account",
    Did.SHARE: "share", Did.LOGGING: "change the logging",
}  # fmt: skip
_ONE = {Did.RIGHTS: "changed the rights of"}


class Seen(Protocol):
    """One line of an answer."""

    @property
    def fold(self) -> Fold: ...
    @property
    def who(self) -> str: ...


class LogRead(Protocol):
    """What the reading of one log came to."""

    @property
    def system(self) -> str: ...
    @property
    def file(self) -> str: ...
    @property
    def records(self) -> int: ...
    @property
    def lines(self) -> int: ...
    @property
    def bad_lines(self) -> int: ...
    @property
    def faults(self) -> Sequence[tuple[str, int, str]]: ...
    @property
    def notes(self) -> Sequence[str]: ...
    @property
    def failed(self) -> str: ...


class Answer(Protocol):
    """What was found."""

    @property
    def seen(self) -> Sequence[Seen]: ...
    @property
    def number(self) -> int: ...
    @property
    def refused(self) -> int: ...
    @property
    def is_whole(self) -> bool: ...


class Kept(Protocol):
    """What became of a system's records."""

    @property
    def system(self) -> str: ...
    @property
    def added_up(self) -> int: ...
    @property
    def sums(self) -> int: ...
    @property
    def dropped(self) -> int: ...


def kept_words(done: Kept) -> str:
    """Say what was added up, and what is gone."""
    words = []
    if done.added_up:
        words.append(
            f"{count_of(done.added_up, 'record')} older than they are kept added up by day, "
            f"into {count_of(done.sums, 'sum')}"
        )
    if done.dropped:
        words.append(f"sums of {count_of(done.dropped, 'record')} dropped")
    return f"{done.system}: {'; '.join(words)}"


def trail_report(
    found: Answer, about: str, covered: Sequence[str], notes: Sequence[str], *, for_people: bool = True
) -> Report:
    """List what was done, the newest first; `covered` says of each system what its records cover.

    Rows may be many: what is written for people alone is left out where none are shown them.
    """
    row_of = _row_for_people if for_people else _row
    rows = [row_of(one) for one in reversed(found.seen)]
    number, refused = found.number, found.refused
    headline = f"{count_of(number, 'record')}{about}" + (f", {refused:,} of them refused." if refused else ".")
    more: list[str] = [*notes, *covered]
    if not found.is_whole:
        more.insert(0, f"These are the last {len(rows):,} lines; --all shows every one, --since and --until a time.")
    if sum(one.fold.number for one in found.seen) > len(rows):
        more.append(Aside("Repeats within two minutes are one line; -a shows every record."))
    empty = "nothing of that is in the records; what they do not cover is not known"
    return Report("trail", headline, _COLUMNS, rows, more, empty)


def _row(one: Seen) -> Row:
    first, last = one.fold.first, one.fold.last
    is_one = one.fold.number == 1
    return {
        "moment": first.moment.isoformat(),
        "until": last.moment.isoformat(),
        "system": one.fold.system,
        "who": one.who,
        "login": first.who,
        "did": first.did.value,
        "number": one.fold.number,
        "where": _place(one.fold.system, one.fold.place) or one.fold.system,
        "to": _place(one.fold.system, first.to) if is_one else "",
        "is_folder": is_one and first.is_folder,
        "done": first.is_done,
        "severity": severity_of(first.did, is_done=first.is_done).name.lower(),
        "address": first.address,
        "device": first.device,
        "detail": first.detail if is_one else "",
    }


def _row_for_people(one: Seen) -> Row:
    when = one.fold.first.moment.astimezone().strftime("%Y-%m-%d %H:%M:%S")
    return {**_row(one), "when": when, "deed": _deed(one.fold)}


def _deed(fold: Fold) -> str:
    first = fold.first
    is_one_thing = bool(first.path) and first.path == fold.last.path == fold.place
    if not first.is_done:
        words = f"refused to {_REFUSED[first.did]}"
        return words if fold.number == 1 else f"{words}, {fold.number:,} times"
    if fold.number > 1:
        return f"{first.did.value}, {fold.number:,} times" if is_one_thing else _MANY[first.did].format(fold.number)
    words = _ONE.get(first.did, first.did.value)
    words += " the folder" if first.did in (Did.DELETE, Did.MAKE) and first.is_folder else ""
    if first.to:
        words += f", to {show_address(Address(fold.system, first.to))}"
    elif first.detail:
        words += f": {first.detail}"
    return words


def _place(system: str, path: bytes) -> Cell:
    return Address(system, path) if path else ""


_SIGN_COLUMNS = (
    Column("number", "#", Show.PEOPLE, number=True),
    Column("when", "WHEN", Show.PEOPLE),
    Column("moment", "MOMENT", Show.MACHINE),
    Column("until", "UNTIL", Show.MACHINE),
    Column("system", "SYSTEM", Show.MACHINE),
    Column("sign", "SIGN", Show.MACHINE),
    Column("who", "WHO"),
    Column("login", "LOGIN", Show.MACHINE),
    Column("where", "WHERE", cuts=True),
    Column("fact", "WHAT", Show.PEOPLE, wraps=True),
    Column("figure", "FIGURE", Show.MACHINE, number=True),
    Column("threshold", "LIMIT", Show.MACHINE, number=True),
    Column("words", "", Show.MACHINE),
)


class Sign(Protocol):
    """One thing that looks wrong."""

    @property
    def kind(self) -> Enum: ...
    @property
    def system(self) -> str: ...
    @property
    def login(self) -> str: ...
    @property
    def path(self) -> bytes: ...
    @property
    def first(self) -> datetime: ...
    @property
    def last(self) -> datetime: ...
    @property
    def figure(self) -> int: ...
    @property
    def threshold(self) -> int: ...
    @property
    def words(self) -> str: ...


class SeenSign(Protocol):
    """A sign, and who it was."""

    @property
    def sign(self) -> Sign: ...
    @property
    def person(self) -> str: ...


def signs_report(
    found: Sequence[SeenSign], about: str, notes: Sequence[str], short: Sequence[str] = (), number: int | None = None
) -> Report:
    """List what is unusual, the most serious first, then the newest; or one of it whole, by its `number`.

    `short` says where the logs do not tell everything up to today.
    """
    rows = [_sign_row(one.sign, one.person) for one in reversed(found)]
    ranked = sorted(found, key=lambda one: (-_severity(one.sign).rank, -one.sign.first.timestamp()))
    if number is not None:
        return _one_sign(ranked[number - 1], number, len(ranked))
    high = sum(_severity(one.sign) is Severity.HIGH for one in ranked)
    headline = f"{count_of(len(found), 'unusual event')}{about}, {high:,} of them high"
    if not found:
        headline = f"No unusual event is known{about}; {'; '.join(short)}"
    said = assured("signs", not found and not short, headline, about=about)
    shown: list[Row] = []
    for place, one in enumerate(ranked, start=1):
        if place == 1 and high:
            shown.append(section("HIGH"))
        elif place == high + 1 and high:
            shown.append(section("MEDIUM AND LOW"))
        shown.append({**_sign_row(one.sign, one.person), "number": place, "who": one.person or "-"})
    empty = "nothing unusual in what was read"
    report = Report("signs", f"{said.text}.", _SIGN_COLUMNS, rows, list(notes), empty, shown, said.is_assured)
    if ranked:
        report.pointers = [Pointer("The figures, and where the alarm starts", "trail --unusual 1")]
    return report


def _severity(sign: Sign) -> Severity:
    return CHECKS[sign.kind.value].severity


def _one_sign(one: SeenSign, number: int, many: int) -> Report:
    """Show one unusual event whole."""
    sign = one.sign
    row = _sign_row(sign, one.person)
    where = row["where"]
    place = show_address(where) if isinstance(where, Address) else sign.system
    check = CHECKS[sign.kind.value]
    finding = Finding(
        sign.kind.value, where if isinstance(where, Address) else sign.system, sign.words, people=(one.person,)
    )
    fact = fact_of(finding)
    headline = f"Unusual event {number} of {many}, {check.severity.value}: {place}: {fact}."
    who = f" ({sign.login} on {sign.system})" if sign.login else ""
    report = Report("signs", headline, _SIGN_COLUMNS, [row], folded=[], empty="")
    report.notes = [
        f"When: {sign.first.astimezone():%Y-%m-%d %H:%M} to {sign.last.astimezone():%Y-%m-%d %H:%M}.",
        f"Who: {one.person or 'unknown'}{who}.",
        f"What: {sign.words}.",
        f"The figure is {sign.figure:,}; the alarm starts at {sign.threshold:,} (settings in the plan change it).",
        f"Do: {filled(check.advice, finding)}.",
    ]
    return report


def _sign_row(sign: Sign, person: str) -> Row:
    return {
        "when": moment_cell(sign.first),
        "moment": sign.first.isoformat(),
        "until": sign.last.isoformat(),
        "system": sign.system,
        "sign": sign.kind.value,
        "fact": event_of(sign.kind.value, sign.words),
        "who": person,
        "login": sign.login,
        "where": _place(sign.system, sign.path) or sign.system,
        "figure": sign.figure,
        "threshold": sign.threshold,
        "words": sign.words,
    }


_LOG_COLUMNS = (
    Column("system", "SYSTEM"),
    Column("file", "LOG", cuts=True),
    Column("lines", "NEW LINES", number=True),
    Column("records", "RECORDS", number=True),
    Column("bad_lines", "NOT READ", number=True),
    Column("told", "", wraps=True),
)


def logs_report(found: Sequence[LogRead]) -> Report:
    """Show what each log had that is new, and the lines that say nothing."""
    rows: list[Row] = []
    notes: list[str] = []
    for one in found:
        told = f"not read: {one.failed}" if one.failed else "; ".join(one.notes)
        rows.append(
            {"system": one.system, "file": one.file, "lines": one.lines, "records": one.records,
             "bad_lines": one.bad_lines, "told": told}
        )  # fmt: skip
        notes += [f"{name}, line {line}: {why}." for name, line, why in one.faults]
        left = one.bad_lines - len(one.faults)
        notes += [f"{one.file}: and {count_of(left, 'more line')} that could not be read."] if left else []
    headline = f"{count_of(sum(one.records for one in found), 'record')} read from {count_of(len(found), 'log')}."
    return Report("logs", headline, _LOG_COLUMNS, rows, notes, "the plan names no logs: systems: {NAME: {logs: …}}")
