"""Somebody who changes posts: what goes, what comes, what stays, and the steps."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from datetime import date
from typing import Protocol

from neatledger.core.lists.rights import Level
from neatledger.core.plan.posts import HeldPost
from neatledger.core.posts.forms import Choice
from neatledger.core.tree.address import Address
from neatledger.reports.joining import fact, sheet
from neatledger.reports.report import Aside, Report, Row, count_of

__all__ = ["moving_report", "moving_rows"]


class _Change(Protocol):
    @property
    def address(self) -> Address: ...
    @property
    def before(self) -> Level: ...
    @property
    def after(self) -> Level: ...
    @property
    def by(self) -> str: ...


class _Stays(Protocol):
    @property
    def what(self) -> str: ...
    @property
    def place(self) -> Address | str: ...
    @property
    def detail(self) -> str: ...


_ORDER = tuple(Level)


def moving_rows(
    posts: Sequence[HeldPost],
    choices: Mapping[str, Choice],
    changes: Sequence[_Change],
    groups: tuple[Sequence[str], Sequence[str]],
    stays: Sequence[_Stays],
    tell: Sequence[str],
) -> list[Row]:
    """Return what comes of a move as rows: what goes first."""
    rows = []
    for held in posts:
        days = " ".join(f"{word} {day}" for word, day in (("from", held.start), ("until", held.until)) if day)
        rows.append(fact("post", "", held.post, ", ".join(filter(None, (days, held.because)))))
    old, new = groups
    rows += [fact("goes", f"group {name}", "leaves it") for name in old if name not in new]
    rows += [_change("goes", one) for one in changes if _is_less(one)]
    rows += [fact("comes", f"group {name}", "joins it") for name in new if name not in old]
    rows += [_change("comes", one) for one in changes if not _is_less(one)]
    for system, choice in choices.items():
        rows.append(
            fact("comes", system, f"the account {choice.login}", "free" if choice.is_first else choice.taken_by)
        )
    rows += [fact("stays", one.place, f"{one.what}: {one.detail}", "nobody asked for it to go") for one in stays]
    rows += [fact("told", "", who, "by a post") for who in tell]
    return rows


def _is_less(one: _Change) -> bool:
    return one.after is Level.NONE or (
        one.before is not Level.NONE and _ORDER.index(one.after) < _ORDER.index(one.before)
    )


def _change(what: str, one: _Change) -> Row:
    return fact(what, one.address, f"{one.before.value}, then {one.after.value}", one.by)


def moving_report(name: str, day: date, rows: Sequence[Row], notes: Sequence[str | Aside]) -> Report:
    """Show all of it."""
    counts = [sum(row["what"] == word for row in rows) for word in ("goes", "comes", "stays")]
    goes, comes, stays = (count_of(number, "thing") for number in counts)
    verbs = ["goes" if counts[0] == 1 else "go", "comes" if counts[1] == 1 else "come"]
    stay = "stays" if counts[2] == 1 else "stay"
    left = f"{stays} {stay} though nobody asked" if counts[2] else "nothing else is left over"
    headline = f"{name} moves on {day}: {goes} {verbs[0]}, {comes} {verbs[1]}, {left}."
    return sheet(headline, "moving", rows, notes)
