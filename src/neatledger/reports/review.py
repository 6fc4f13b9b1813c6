"""Reviews as reports: how it stands with everybody who decides, and what an answer means."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Sequence
from datetime import date
from typing import Protocol

from neatledger.core.lists.contract import Names
from neatledger.core.lists.rights import Level
from neatledger.core.reviews.outcome import Outcome
from neatledger.core.reviews.pack import Choice, Decision, Pack
from neatledger.core.steps.contract import Step
from neatledger.core.tree.address import Address
from neatledger.formats.names import show_address
from neatledger.reports.report import Aside, Column, Report, Row, Show, count_of, day_cell

__all__ = ["answer_report", "made_report", "standing_report"]

_FEW = 8


class Stands(Protocol):
    """How it stands with one who decides."""

    @property
    def decider(self) -> str: ...
    @property
    def folders(self) -> Sequence[Address]: ...
    @property
    def pack(self) -> Pack | None: ...
    @property
    def decided(self) -> int: ...
    @property
    def answered(self) -> date | None: ...
    @property
    def by(self) -> str: ...
    @property
    def due(self) -> date | None: ...
    @property
    def state(self) -> str: ...


def standing_report(found: Sequence[Stands], entries: int, without: Sequence[Address]) -> Report:
    """Show everybody who decides; `entries` are those of the record, `without` folders on which nobody decides."""
    columns = (
        Column("decider", "DECIDES"),
        Column("folders", "ON", wraps=True),
        Column("pack", "PACK", Show.MACHINE),
        Column("made", "LAST ASKED"),
        Column("answered", "LAST ANSWER"),
        Column("by", "ANSWERED BY", Show.MACHINE),
        Column("due", "DUE"),
        Column("state", "STATE", wraps=True),
    )
    rows: list[Row] = [
        {
            "decider": one.decider,
            "folders": tuple(map(show_address, one.folders)),
            "pack": one.pack.id if one.pack else "",
            "made": day_cell(one.pack.made if one.pack else None),
            "answered": day_cell(one.answered),
            "by": one.by,
            "due": day_cell(one.due),
            "state": one.state,
        }
        for one in found
    ]
    waiting = sum("wait" in one.state for one in found)
    overdue = sum("overdue" in one.state or one.state.startswith("never") for one in found)
    headline = f"{count_of(len(found), 'person')} decide: {overdue} due, {waiting} waiting for an answer."
    notes: list[str] = []
    if without:
        notes.append(f"Nobody decides on: {', '.join(map(show_address, without))}.")
    notes.append(
        f"The record of decisions is intact: {count_of(entries, 'entry')}, each sealed with those before it."
    )
    notes.append(Aside("review make -o FOLDER writes a workbook for each; review take FILE reads it back."))
    return Report("review", headline, columns, rows, notes, "the plan names nobody who decides on a folder (decides)")


class Packed(Protocol):
    """A pack that was made."""

    @property
    def pack(self) -> Pack: ...
    @property
    def left_out(self) -> int: ...


def made_report(made: Sequence[tuple[Packed, str]]) -> Report:
    """Show what was written, each with its file."""
    columns = (
        Column("decider", "DECIDES"),
        Column("pack", "PACK"),
        Column("folders", "FOLDERS", number=True),
        Column("rows", "ROWS", number=True),
        Column("file", "FILE", wraps=True),
    )
    rows: list[Row] = [
        {
            "decider": one.pack.decider,
            "pack": one.pack.id,
            "folders": len(one.pack.folders),
            "rows": len(one.pack.rows),
            "file": name,
        }
        for one, name in made
    ]
    notes = [
        f"{count_of(one.left_out, 'folder')} below are left out of {one.pack.decider}'s: too many differ."
        for one, _ in made
        if one.left_out
    ]
    return Report("review", f"{count_of(len(rows), 'pack')} of questions made.", columns, rows, notes)


class Else(Protocol):
    """What somebody would have else than now, of whom that was not decided."""

    @property
    def person(self) -> str: ...
    @property
    def folder(self) -> Address: ...
    @property
    def before(self) -> Level: ...
    @property
    def after(self) -> Level: ...


class Answered(Protocol):
    """An answer that fits."""

    @property
    def pack(self) -> Pack: ...
    @property
    def by(self) -> str: ...
    @property
    def day(self) -> date: ...
    @property
    def decisions(self) -> Sequence[Decision]: ...
    @property
    def known(self) -> int: ...
    @property
    def waiting(self) -> int: ...
    @property
    def changed(self) -> Sequence[tuple[Decision, Level]]: ...
    @property
    def outcome(self) -> Outcome: ...
    @property
    def steps(self) -> Sequence[Step]: ...
    @property
    def by_hand(self) -> Sequence[tuple[Decision, str]]: ...
    @property
    def beside(self) -> Sequence[Else]: ...


def answer_report(found: Answered, names: Callable[[str], Names], *, is_written: bool) -> Report:
    """Show what was decided and what it means: for the plan, for the systems, and for somebody's hands."""
    columns = (
        Column("folder", "FOLDER", wraps=True),
        Column("person", "PERSON"),
        Column("has", "HAS"),
        Column("decision", "DECIDED"),
        Column("plan", "IN THE PLAN", wraps=True),
        Column("remark", "REMARK", Show.MACHINE),
    )
    edits = {(one.folder, one.person): one for one in found.outcome.edits}
    by_hand = {id(one): why for one, why in found.outcome.by_hand}
    rows: list[Row] = []
    for one in found.decisions:
        edit = edits.get((one.row.folder, one.row.person))
        words = by_hand.get(id(one), "") and f"by hand: {by_hand[id(one)]}"
        if edit is not None:
            words = f"grant {edit.level.value}" if edit.level is not None else "the grant goes"
        rows.append(
            {
                "folder": one.row.folder,
                "person": one.row.person,
                "has": one.row.level.value,
                "decision": one.choice.value + (f" to {one.level.value}" if one.level else ""),
                "plan": words or "as it is",
                "remark": one.remark,
            }
        )
    counts = Counter(one.choice for one in found.decisions)
    said = ", ".join(f"{counts[choice]} {choice.value}" for choice in Choice if counts[choice]) or "nothing new"
    headline = f"{found.by} decided on {found.day}: {said}; {count_of(found.waiting, 'row')} still open."
    notes: list[str] = []
    for one, now in found.changed:
        where = show_address(one.row.folder)
        notes.append(f"Not taken: {one.row.person} on {where} has {now.value}, not {one.row.level.value}: ask anew.")
    if found.known:
        notes.append(f"{count_of(found.known, 'decision')} in it were taken before.")
    if found.outcome.edits:
        verb = "are written into" if is_written else "would go into"
        notes.append(f"{count_of(len(found.outcome.edits), 'grant')} {verb} office.yaml.")
    if found.outcome.by_hand:
        notes.append(f"{count_of(len(found.outcome.by_hand), 'decision')} need a person: what a group gives stays.")
    if found.steps:
        notes.append(f"{count_of(len(found.steps), 'step')} on the systems follow:")
        notes += [f"  {step.system}: {step.word(names(step.system))}" for step in found.steps[:_FEW]]
        if len(found.steps) > _FEW:
            notes.append(f"  and {len(found.steps) - _FEW} more")
    for one, why in found.by_hand:
        notes.append(f"By hand: {one.row.person} on {show_address(one.row.folder)}: {why}.")
    for each in found.beside:
        notes.append(
            f"Beware: these steps also leave {each.person} {each.after.value} on {show_address(each.folder)}, "
            f"not {each.before.value}."
        )
    if is_written:
        notes.append("The decisions are kept in the ledger.")
    else:
        notes.append(Aside("Nothing is kept yet: --write takes it, and --steps FILE writes the steps for mend FILE."))
    return Report("review", headline, columns, rows, notes, "nothing new was decided")
