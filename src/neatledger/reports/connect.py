"""What was tried of systems, how a listing's columns are taken, and what is to be known of a proposal."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import Protocol

from neatledger.formats.headings import TableGuess
from neatledger.reports.assurances import assured
from neatledger.reports.report import Column, Report, Row, count_of

__all__ = ["columns_report", "told_lines", "tried_report"]


class _Tried(Protocol):
    @property
    def system(self) -> str: ...
    @property
    def part(self) -> str: ...
    @property
    def works(self) -> bool: ...
    @property
    def message(self) -> str: ...
    @property
    def hint(self) -> str: ...


def tried_report(tried: Sequence[_Tried]) -> Report:
    """Show part by part what works, what does not, and what to do."""
    columns = (
        Column("system", "SYSTEM"),
        Column("part", "PART"),
        Column("works", "WORKS"),
        Column("message", "WHAT THERE IS", wraps=True),
        Column("hint", "WHAT TO DO", wraps=True),
    )
    rows: list[Row] = []
    for one in tried:
        works = "partly" if one.works and one.hint else "yes" if one.works else "no"
        row: Row = {"system": one.system, "part": one.part, "works": works}
        rows.append({**row, "message": one.message, "hint": one.hint})
    failing = sum(not one.works for one in tried)
    headline = f"{count_of(len(tried), 'part')} tried: "
    partly = sum(one.works and bool(one.hint) for one in tried)
    words = [f"{failing} {'does' if failing == 1 else 'do'} not work"] if failing else []
    words += [f"{partly} in part"] if partly else []
    said = assured("connect", not words, ", ".join(words))
    return Report("tried", f"{headline}{said.text}.", columns, rows, [], "nothing to try")


def columns_report(guesses: Sequence[TableGuess]) -> Report:
    """Show of every column of a listing which of ours it is taken for, what stands in it, and how sure that is."""
    columns = (
        Column("table", "TABLE"),
        Column("theirs", "THEIR COLUMN", cuts=True),
        Column("ours", "OURS"),
        Column("sure", "HOW SURE"),
        Column("examples", "FOR EXAMPLE", cuts=True),
        Column("read", "READ AS", wraps=True),
    )
    rows: list[Row] = []
    for guess in guesses:
        for one in guess.columns:
            words = ", ".join(f"{theirs} = {ours or 'nothing'}" for theirs, ours in one.values.items())
            read = "; ".join(part for part in (f"days as {one.dates}" if one.dates else "", words, one.doubt) if part)
            row: Row = {"table": guess.table, "theirs": one.heading, "ours": one.ours, "sure": one.how_sure}
            rows.append({**row, "examples": ", ".join(one.examples), "read": read})
    taken = sum(bool(one.ours) for guess in guesses for one in guess.columns)
    headline = f"{taken} of {count_of(len(rows), 'column')} are recognised."
    notes = [f"{guess.table} lacks {', '.join(guess.lacking)}, which it needs." for guess in guesses if guess.lacking]
    return Report("columns", headline, columns, rows, notes, "no columns")


def told_lines(notes: Sequence[str], lacking: Sequence[str]) -> Iterator[str]:
    """Yield what was seen beside, and what is still to be said."""
    yield from notes
    for one in lacking:
        yield f"Not known: {one}."
