"""A pack of questions as a page to print and sign: a box for every answer."""

from __future__ import annotations

from neatledger.core.reviews.pack import Pack
from neatledger.formats.reviewbook import LEVELS_IN_WORDS, cells_of, lead_of
from neatledger.reports.paper import Paper, Part
from neatledger.reports.report import Column, Report, Row, count_of

__all__ = ["make_page"]

_BOX = "\u2610"


def make_page(pack: Pack, office: str, when: str, decider: str) -> Paper:
    """Make the paper of a pack; `when` is the moment of its count, `decider` the name of whom it is for."""
    rows: list[Row] = []
    for number, row in enumerate(pack.rows, start=1):
        cells: dict[str, str] = cells_of(row)
        boxes = f"{_BOX} keep  {_BOX} remove  {_BOX} change to ________"
        rows.append({"number": number, **{head.lower(): cell for head, cell in cells.items()}, "decision": boxes})
    heads = list(cells_of(pack.rows[0])) if pack.rows else []
    columns = [Column("number", "", number=True)]
    columns += [Column(head.lower(), head, wraps=True) for head in heads]
    columns.append(Column("decision", "DECISION"))
    report = Report(
        "pack", f"{count_of(len(rows), 'row')} to be decided.", columns, rows, [], "nobody can do anything there"
    )
    lead = [
        *lead_of(pack),
        f"To change to: {LEVELS_IN_WORDS}.",
        "Name, in full: ______________________    Date: ______________    Signature: ______________________",
        f"Pack {pack.id}: what is written here goes into the workbook of the same number.",
    ]
    return Paper(
        f"{office}: who may stay? For {decider}",
        f"As counted on {when}.",
        lead,
        [Part("Who can do what", report)],
    )
