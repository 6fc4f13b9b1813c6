"""The brief of a Monday morning: one screen, part by part, the important line of each first."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import date, datetime
from enum import Enum
from typing import Protocol

from neatledger.core.checks.causes import Cause
from neatledger.core.checks.contract import Finding, Severity
from neatledger.core.checks.table import CHECKS
from neatledger.core.sharing.lapses import Lapse
from neatledger.core.space.sizes import show_size
from neatledger.core.space.when import FillUp
from neatledger.core.tree.address import Address
from neatledger.formats.names import show_address
from neatledger.reports.assurances import Said, assured, bounded
from neatledger.reports.causes import where_of
from neatledger.reports.facts import fact_of, facts_of
from neatledger.reports.forecast import show_when
from neatledger.reports.report import Column, Report, Row, Show, count_of, section

__all__ = ["brief_report"]

_COLUMNS = (
    Column("part", "", Show.MACHINE),
    Column("number", "", Show.PEOPLE),
    Column("where", "", cuts=True),
    Column("what", "", wraps=True),
    Column("points", "", Show.MACHINE),
)
_FEW = {"worst": 4, "unusual": 2, "full": 1, "ending": 1}
_SOON_DAYS = 30
"""Within how many days what fills up is told."""


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
    @property
    def words(self) -> str: ...


class Odd(Protocol):
    """Such a thing, and who it was."""

    @property
    def sign(self) -> Sign: ...
    @property
    def person(self) -> str: ...


def brief_report(found: Parts, today: date) -> Report:
    """Show each part with its first few lines; the parts with nothing in them share a line."""
    report = Report("brief", _headline(found), _COLUMNS, _rows(found), [], "nothing to tell", [])
    parts = [_worst(found), _unusual(found), _full(found, today), _ending(found), _waiting(found)]
    shown: list[Row] = []
    for part in filter(None, parts):
        shown += [section("")] if shown else []
        shown += part
    report.folded, report.most = shown, len(shown)
    quiet = [one.text for one in _quiet(found, parts)]
    report.notes = [bounded(f"{text[:1].upper()}{text[1:]}.", found.not_seen) for text in quiet]
    return report


def _headline(found: Parts) -> str:
    worst = found.gravest
    if not worst:
        return "No problem was found." if not found.not_seen else "No problem was found in what was seen."
    first = worst[0]
    high = sum(one.severity is Severity.HIGH for one in worst)
    ranked = f"{count_of(high, 'problem')} {'ranks' if high == 1 else 'rank'} high" if high else ""
    text = ranked or f"{count_of(len(worst), 'problem')}, none of them high"
    if found.older is not None:
        fresh = {one.key for one in found.new}
        new = sum(one.key in fresh for one in worst if one.severity is Severity.HIGH or not high)
        text += f"; {new:,} of them new" if new else "; none of them new"
        text += f", {count_of(len(found.gone), 'problem')} ended since {found.older.when}" if found.gone else ""
    where = where_of(first)
    place = show_address(where) if isinstance(where, Address) else where
    return f"{text}. Start with {place}: {facts_of(first.key, first.findings)}."


def _rows(found: Parts) -> list[Row]:
    """Return every line of every part, as machines have them."""
    rows: list[Row] = []
    parts: list[tuple[str, Sequence[Row]]] = [
        ("new", _causes(found.new)),
        ("gone", _causes(found.gone)),
        ("gravest", _causes(found.gravest)),
        ("looks wrong", [_sign_row(one) for one in found.odd or ()]),
        ("lapses in a week", [_ending_row(one) for one in found.lapsing]),
        ("fills up", [_filling_row(one) for one in found.filling]),
        ("waits", [{"where": "", "what": text} for text in found.waiting]),
        ("not seen", [{"where": "", "what": text} for text in found.not_seen]),
    ]
    for part, lines in parts:
        rows += [{"part": part, "points": 0, **line} for line in lines]
    return rows


def _causes(causes: Sequence[Cause]) -> list[Row]:
    return [
        {"where": one.key, "what": facts_of(one.key, one.findings), "points": one.exposure.points} for one in causes
    ]


def _part(name: str, many: str, command: str, lines: Sequence[Row]) -> list[Row]:
    return [section(f"{name:<10}{many}", command), *({"part": "", "number": " " * 8, **line} for line in lines)]


def _worst(found: Parts) -> list[Row]:
    if not found.gravest:
        return []
    severity = found.gravest[0].severity
    severity = Severity.HIGH if any(one.severity is Severity.HIGH for one in found.gravest) else severity
    numbered = [(number, one) for number, one in enumerate(found.gravest, start=1) if one.severity is severity]
    lines: list[Row] = [
        {"number": f"{number:>8}", "where": where_of(one), "what": facts_of(one.key, one.findings[:1])}
        for number, one in numbered[: _FEW["worst"]]
    ]
    many = f"{len(numbered):,} of {count_of(len(found.gravest), 'problem')}"
    return _part(severity.value.upper(), many, "check", lines)


def _unusual(found: Parts) -> list[Row]:
    if not found.odd:
        return []
    signs = sorted(found.odd, key=lambda one: -CHECKS[one.sign.kind.value].severity.rank)
    lines = [
        {"where": _sign_where(one), "what": f"{one.person + ': ' if one.person else ''}{_sign_fact(one)}"}
        for one in signs[: _FEW["unusual"]]
    ]
    return _part("UNUSUAL", f"{count_of(len(signs), 'event')} in 7 days", "trail --unusual", lines)


def _full(found: Parts, today: date) -> list[Row]:
    over = [one for one in found.filling if one.when.day is None or one.when.day <= today]
    soon = [one for one in found.filling if one not in over and (one.when.day - today).days <= _SOON_DAYS]  # type: ignore[operator]
    if not over and not soon:
        return []
    words = [f"{len(over):,} over the limit"] if over else []
    words += [f"{len(soon):,} full within {_SOON_DAYS} days"] if soon else []
    lines = [_filling_row(one) for one in [*soon, *over][: _FEW["full"]]]
    return _part("FULL", ", ".join(words), "space", lines)


def _ending(found: Parts) -> list[Row]:
    if not found.lapsing:
        return []
    lines: list[Row] = [
        {"where": one.place, "what": f"{one.day} {one.then}"} for one in found.lapsing[: _FEW["ending"]]
    ]
    many = f"{count_of(len(found.lapsing), 'thing')} within 7 days"
    return _part("ENDING", many, "expiring --within 7d", lines)


def _waiting(found: Parts) -> list[Row]:
    if not found.waiting:
        return []
    return [section(f"{'WAITING':<10}{', '.join(found.waiting)}")]


def _quiet(found: Parts, parts: Sequence[Sequence[Row]]) -> list[Said]:
    """Say of each part with nothing in it that there is nothing, and on what that rests."""
    _, _, full, ending, waiting = parts
    checks = count_of(len(CHECKS), "check")
    words = [assured("brief", not found.gravest, "", checks=checks, when="the newest count"), _no_signs(found)]
    quiet = [
        word
        for word, lines in (("nothing full within 30 days", full), ("nothing ends within 7 days", ending))
        if not lines
    ]
    if quiet:
        words.append(Said("; ".join(quiet), False))
    if not waiting:
        words.append(Said("nothing waits that the ledger knows of", False))
    return [said for said in words if said.text]


def _sign_where(one: Odd) -> Address | str:
    return Address(one.sign.system, one.sign.path) if one.sign.path else one.sign.system


def _sign_fact(one: Odd) -> str:
    return fact_of(Finding(one.sign.kind.value, one.sign.system, one.sign.words))


def _sign_row(one: Odd) -> Row:
    where = _sign_where(one)
    place = show_address(where) if isinstance(where, Address) else where
    words = f"{one.sign.first.astimezone():%Y-%m-%d} {_sign_fact(one)}"
    return {"where": f"{one.person}, {place}" if one.person else place, "what": words}


def _no_signs(found: Parts) -> Said:
    """Say that nothing is unusual in the week, and what that rests on; nothing where something is."""
    if found.odd is None:
        return Said("unusual events are not known: no log was read", False)
    reach = [*found.short]
    if found.earlier:
        reach.insert(0, f"{found.earlier} in the weeks before (trail --unusual)")
    since = str(found.week)
    otherwise = "" if found.odd else f"nothing unusual known since {since}; {'; '.join(reach)}"
    return assured("brief-signs", not found.odd and not reach, otherwise, since=since, reach="")


def _ending_row(one: Lapse) -> Row:
    return {"where": str(one.place), "what": f"{one.day} {one.what} {one.who}: {one.then}".replace(" : ", ": ")}


def _filling_row(one: FillUp) -> Row:
    return {"where": one.target, "what": f"{show_when(one.when)}: {show_size(one.amount)} of {show_size(one.limit)}"}
