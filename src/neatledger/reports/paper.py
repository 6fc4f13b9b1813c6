"""A paper: reports and figures under one title, in a stable order, as a page and a workbook show them."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field

from neatledger.reports.forecast import Growth
from neatledger.reports.report import Report

__all__ = ["Paper", "Part", "Use"]


@dataclass(frozen=True, slots=True)
class Use:
    """What a figure of use shows: a name, by what it is shared out, and the shares in bytes."""

    name: str
    by: str
    shares: Sequence[tuple[str, int]]


@dataclass(frozen=True, slots=True)
class Part:
    """One part of a paper: its title, what it says in a sentence, its table and its figures."""

    title: str
    report: Report
    figures: Sequence[Growth | Use] = field(default_factory=tuple)


@dataclass(frozen=True, slots=True)
class Paper:
    """A whole paper; `lead` are the few sentences that matter most."""

    title: str
    subtitle: str
    lead: Sequence[str]
    parts: Sequence[Part]
