"""A paper: reports, maps and figures under one title, in a stable order, as a page and a workbook show them."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field, replace
from datetime import date

from neatledger.core.lists.rights import Level
from neatledger.core.tree.address import Address
from neatledger.reports.chain import Link, head_words
from neatledger.reports.forecast import Growth
from neatledger.reports.report import Report

__all__ = [
    "LETTERS",
    "Grid",
    "Lines",
    "Paper",
    "Part",
    "Use",
    "numbered",
    "sealed",
]

LETTERS: dict[Level, str] = {
    Level.NONE: "",
    Level.LIST: "n",
    Level.VIEW: "v",
    Level.ADD_ONLY: "d",
    Level.MIXED: "x",
    Level.READ: "R",
    Level.WRITE: "C",
    Level.MANAGE: "M",
    Level.UNKNOWN: "?",
}
"""How a level stands in a map; the more it gives, the darker it is."""


@dataclass(frozen=True, slots=True)
class Use:
    """What a figure of use shows: a name, by what it is shared out, and the shares in bytes."""

    name: str
    by: str
    shares: Sequence[tuple[str, int]]


@dataclass(frozen=True, slots=True)
class Lines:
    """Numbers over time, one line above the other: what they are of, the days, and for each name its numbers."""

    name: str
    days: Sequence[date]
    series: Sequence[tuple[str, Sequence[int]]]


@dataclass(frozen=True, slots=True)
class Grid:
    """A map of access: folders down, people or groups across, in each cell the letter of a level (`LETTERS`)."""

    rows: Sequence[Address]
    columns: Sequence[str]
    cells: Sequence[Sequence[str]]


@dataclass(frozen=True, slots=True)
class Part:
    """One part of a paper: its title, what it says in a sentence, its table or map, and its figures.

    `keys` are the columns that tell a row of the table from others, for a comparison with an older paper.
    """

    title: str
    report: Report
    figures: Sequence[Growth | Use | Lines] = field(default_factory=tuple)
    keys: Sequence[str] = ()
    grid: Grid | None = None


@dataclass(frozen=True, slots=True)
class Paper:
    """A whole paper; `lead` are the few sentences that matter most."""

    title: str
    subtitle: str
    lead: Sequence[str]
    parts: Sequence[Part]
    appendix: str = ""
    """Over the parts, where these are not for who decides."""
    seal: str = ""
    """Up to where the ledger is sealed: it lies with the readers, and stands behind all else."""


def sealed(paper: Paper, head: Link | None) -> Paper:
    """Return a paper that also says up to where the ledger is sealed, so that the seal lies with its readers."""
    return paper if head is None else replace(paper, seal=head_words(head))


def numbered(sentences: Sequence[str], most: int) -> list[str]:
    """Return the first sentences of a paper as they stand on top, each with its number."""
    return [f"{number}  {sentence}" for number, sentence in enumerate(sentences[:most], start=1)]
