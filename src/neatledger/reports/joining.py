"""Somebody who starts, and the proof of what somebody has."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from datetime import date
from typing import Protocol

from neatledger.core.lists.contract import Names
from neatledger.core.lists.rights import Level
from neatledger.core.posts.forms import Choice
from neatledger.core.space.promises import Promise
from neatledger.core.space.sizes import show_size
from neatledger.core.steps.contract import Step
from neatledger.core.tree.address import Address
from neatledger.reports.assurances import assured
from neatledger.reports.report import Aside, Column, Report, Row, count_of

__all__ = ["joining_rows", "proof_report", "step_rows"]

_COLUMNS = (
    Column("what", "WHAT"),
    Column("place", "WHERE", cuts=True),
    Column("value", "VALUE", wraps=True),
    Column("because", "BECAUSE", wraps=True),
)


class _Reach(Protocol):
    @property
    def address(self) -> Address: ...
    @property
    def level(self) -> Level: ...
    @property
    def by(self) -> str: ...
    @property
    def line(self) -> int: ...


class _Item(Protocol):
    @property
    def step(self) -> Step: ...
    @property
    def by_hand(self) -> str: ...
    @property
    def refused(self) -> str: ...


def fact(what: str, place: Address | str, value: str, because: str = "") -> Row:
    """Return one row of a sheet."""
    return {"what": what, "place": place, "value": value, "because": because}


def step_rows(items: Sequence[_Item], names: Callable[[str], Names], day: date) -> list[Row]:
    """Return the steps of a worklist as rows, with the day on which they are due and who makes each."""
    rows = []
    for number, item in enumerate(items, start=1):
        step = item.step
        place: Address | str = step.place or f"{step.system}: {step.target}"
        why = item.refused or (f"by hand: {item.by_hand}" if item.by_hand else "")
        rows.append(
            fact(f"step {number}", place, step.word(names(step.system)), f"{day}: {why or 'the tool makes it'}")
        )
    return rows


def joining_rows(
    words: Mapping[str, object],
    choices: Mapping[str, Choice],
    home: Address | None,
    reach: Sequence[_Reach],
    promised: Sequence[tuple[Promise, Promise]],
    tell: Sequence[str],
) -> list[Row]:
    """Return what the plan would say of somebody who starts, and what comes of it, as rows."""
    said = (("e-mail", "email"), ("first day", "start"), ("last day", "end"), ("posts", "posts"))
    rows = [fact(what, "", _text(words[key])) for what, key in said if words.get(key)]
    for system, choice in choices.items():
        why = "free" if choice.is_first else f"{choice.first_choice} is {choice.taken_by}"
        rows.append(fact("login", system, choice.login, why))
    if home is not None:
        rows.append(fact("home", home, "a folder of their own", "by their post"))
    for before, after in promised:
        size = "unknown" if after.size is None else show_size(after.size)
        more = show_size(after.promised - before.promised)
        value = f"{show_size(before.promised)} of {size} is promised; with them {more} more"
        beyond = f"promised {show_size(after.beyond)} more than it has" if after.beyond else "it holds that"
        rows.append(fact("pool", after.pool, value, beyond))
    rows += [fact("reaches", one.address, one.level.value, f"{one.by}, line {one.line}") for one in reach]
    rows += [fact("told", "", who, "by their post") for who in tell]
    return rows


def sheet(headline: str, name: str, rows: Sequence[Row], notes: Sequence[str | Aside], empty: str = "") -> Report:
    """Return rows of facts as a report."""
    return Report(name, headline, _COLUMNS, rows, list(notes), empty)


def _text(value: object) -> str:
    return ", ".join(map(str, value)) if isinstance(value, tuple | list) else str(value)


class _Verdict(Protocol):
    @property
    def value(self) -> str: ...


class _Proof(Protocol):
    @property
    def what(self) -> str: ...
    @property
    def place(self) -> Address | str: ...
    @property
    def planned(self) -> str: ...
    @property
    def found(self) -> str: ...
    @property
    def verdict(self) -> _Verdict: ...
    @property
    def because(self) -> str: ...


_PROOF = (
    Column("verdict", "VERDICT"),
    Column("what", "WHAT"),
    Column("place", "WHERE", cuts=True),
    Column("planned", "PLANNED"),
    Column("found", "FOUND", wraps=True),
    Column("because", "BECAUSE", wraps=True),
)
_GRAVE = ("missing", "beyond the plan", "not known", "as planned")


def proof_report(name: str, proofs: Sequence[_Proof], when: str) -> Report:
    """Show what somebody has beside what the plan says; what is not so comes first."""
    ranked = sorted(proofs, key=lambda one: _GRAVE.index(one.verdict.value))
    rows: list[Row] = [
        {
            "verdict": one.verdict.value,
            "what": one.what,
            "place": one.place,
            "planned": one.planned,
            "found": one.found,
            "because": one.because,
        }
        for one in ranked
    ]
    off = [one for one in proofs if one.verdict.value != "as planned"]
    counts = {word: sum(one.verdict.value == word for one in off) for word in _GRAVE}
    parts = ", ".join(f"{number} {word}" for word, number in counts.items() if number)
    otherwise = f"{name} has {count_of(len(off), 'thing')} not as planned: {parts} (count of {when})"
    if not proofs:
        otherwise = f"Of {name} the plan says nothing, and nothing was found (count of {when})"
    said = assured("joined", bool(proofs) and not off, otherwise, name=name, when=when)
    empty = "the plan says nothing of them"
    return Report("proof", f"{said.text}.", _PROOF, rows, [], empty, is_assured=said.is_assured)
