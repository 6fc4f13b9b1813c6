"""The brief of a Monday morning: one screen, part by part, the important line of each first."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import date, datetime
from enum import Enum
from typing import Protocol

from neatledger.core.checks.causes import Cause
from neatledger.core.checks.table import CHECKS
from neatledger.core.sharing.lapses import Lapse
from neatledger.core.space.sizes import show_size
from neatledger.core.space.when import FillUp
from neatledger.core.tree.address import Address
from neatledger.formats.names import show_address
from neatledger.reports.assurances import Said, assured, bounded
from neatledger.reports.causes import cause_words
from neatledger.reports.forecast import show_when
from neatledger.reports.report import Aside, Column, Report, Row, Show, count_of

__all__ = ["brief_report"]

_COLUMNS = (
    Column("part", "", wraps=True),
    Column("where", "WHERE", wraps=True),
    Column("what", "WHAT", wraps=True),
    Column("points", "", Show.MACHINE),
)
_FEW = 4


class Day(Protocol):
    """An older count."""

    @property
    def when(self) -> str: ...


class Parts(Protocol):
    """What a brief holds."""

    @property
    def older(self) -> Day | None: ...
    @property
    def new(self) -> Sequence[Cause]: ...
    @property
    def gone(self) -> Sequence[Cause]: ...
    @property
    def gravest(self) -> Sequence[Cause]: ...
    @property
    def lapsing(self) -> Sequence[Lapse]: ...
    @property
    def filling(self) -> Sequence[FillUp]: ...
    @property
    def odd(self) -> Sequence[Odd] | None: ...
    @property
    def week(self) -> date: ...
    @property
    def earlier(self) -> int: ...
    @property
    def short(self) -> Sequence[str]: ...
    @property
    def not_seen(self) -> Sequence[str]: ...
    @property
    def waiting(self) -> Sequence[str]: ...


class Sign(Protocol):
    """One thing that looks wrong in the records."""

    @property
    def kind(self) -> Enum: ...
    @property
    def system(self) -> str: ...
    @property
    def path(self) -> bytes: ...
    @property
    def first(self) -> datetime: ...
    @property
    def figure(self) -> int: ...
    @property
    def threshold(self) -> int: ...


class Odd(Protocol):
    """Such a thing, and who it was."""

    @property
    def sign(self) -> Sign: ...
    @property
    def person(self) -> str: ...


def _odd_where(one: Odd) -> str:
    place = show_address(Address(one.sign.system, one.sign.path)) if one.sign.path else one.sign.system
    return f"{one.person}, {place}" if one.person else place


def _odd_words(sign: Sign) -> str:
    many = f", {sign.figure:,} (told from {sign.threshold:,})" if sign.figure >= sign.threshold > 1 else ""
    return f"{sign.first.astimezone():%Y-%m-%d} {sign.kind.value}{many}"


def brief_report(found: Parts, when: str) -> Report:
    """Show each part with its first few lines, and say of a part with nothing in it that there is nothing."""
    rows: list[Row] = []
    shown: list[Row] = []

    def add(part: str, lines: Sequence[Row], nothing: str, more: str) -> None:
        rows.extend({"part": part, "points": 0, **line} for line in lines)
        if not lines:
            shown.append({"part": part, "where": "", "what": nothing})
        for number, line in enumerate(lines[:_FEW]):
            shown.append({**line, "part": part if not number else ""})
        if len(lines) > _FEW:
            shown.append({"part": "", "where": f"and {len(lines) - _FEW} more", "what": more})

    if found.older is not None:
        add("new", _causes(found.new), f"nothing since {found.older.when}", "check --new")
        add("gone", _causes(found.gone), f"nothing since {found.older.when}", "check --gone")
    checks = count_of(len(CHECKS), "check")
    clean = assured("brief", not found.gravest, "", checks=checks, when=when)
    grave = clean.or_rows(_causes(found.gravest))
    add("gravest", grave, bounded(clean.text, found.not_seen).rstrip("."), "check")
    quiet = _no_signs(found)
    odd = quiet.or_rows([_odd_row(one) for one in found.odd or ()])
    add("looks wrong", odd, quiet.text, "trail --odd")
    lapses = [
        {"where": str(one.place), "what": f"{one.day} {one.what} {one.who}: {one.then}".replace(" : ", ": ")}
        for one in found.lapsing
    ]
    add("lapses in a week", lapses, "nothing that the plan or the count gives an end", "lapses --within 7")
    add("fills up", [_filling(one) for one in found.filling], "nothing is known to", "forecast")
    add("waits", [{"where": "", "what": text} for text in found.waiting], "nothing that the ledger knows of", "")
    whole = assured("all-seen", not found.not_seen, "")
    unseen: list[Row] = [{"where": "", "what": text} for text in found.not_seen]
    add("not seen", whole.or_rows(unseen), whole.text, "counts")
    findings = sum(len(one.findings) for one in found.gravest)
    headline = f"{count_of(findings, 'finding')} by {count_of(len(found.gravest), 'cause')} in the count of {when}"
    if found.older is not None:
        new, gone = (sum(len(one.findings) for one in some) for some in (found.new, found.gone))
        headline += f"; {new} new and {gone} gone since {found.older.when}"
    notes = [Aside("check --cause 1 shows the gravest whole, and what mends it.")] if found.gravest else []
    return Report("brief", f"{headline}.", _COLUMNS, rows, list(notes), "nothing to tell", shown)


def _odd_row(one: Odd) -> Row:
    return {"where": _odd_where(one), "what": _odd_words(one.sign)}


def _no_signs(found: Parts) -> Said:
    """Say that nothing looks wrong in the week, and what that rests on."""
    if found.odd is None:
        return Said("not known: no log was read", False)
    reach = [*found.short]
    if found.earlier:
        reach.insert(0, f"{found.earlier} in the weeks before: trail --odd")
    since = str(found.week)
    otherwise = f"nothing known since {since}; {'; '.join(reach)}"
    return assured("brief-signs", not found.odd and not reach, otherwise, since=since, reach="")


def _causes(causes: Sequence[Cause]) -> list[Row]:
    return [{"where": one.key, "what": cause_words(one), "points": one.exposure.points} for one in causes]


def _filling(one: FillUp) -> Row:
    return {"where": one.target, "what": f"{show_when(one.when)}: {show_size(one.amount)} of {show_size(one.limit)}"}
