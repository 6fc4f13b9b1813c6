"""An imagined change to access: who gains and loses what, who stays out, and which findings go and come."""

from __future__ import annotations

import os
from collections.abc import Sequence
from typing import Protocol

from neatledger.core.access.comparing import AccessChange
from neatledger.core.access.tree_gates import Gate
from neatledger.core.checks.contract import Finding
from neatledger.core.tree.address import Address
from neatledger.reports.assurances import Said, assured
from neatledger.reports.change_words import change_cells, what_changes
from neatledger.reports.report import Cell, Column, Report, Row, Show, count_of

__all__ = ["Changed", "Outside", "supposed_report"]

_MOST_PLACES = 3
_COLUMNS = (
    Column("what", "WHAT"),
    Column("who", "WHO", wraps=True),
    Column("where", "WHERE", cuts=True),
    Column("before", "BEFORE"),
    Column("after", "AFTER"),
    Column("folders", "FOLDERS", number=True),
    Column("with_files", "FILES", wraps=True),
    Column("files", "", Show.MACHINE),
    Column("size", "SIZE", number=True, spare=True),
    Column("by", "BY", wraps=True),
    Column("gained", "", Show.MACHINE),
    Column("lost", "", Show.MACHINE),
)


class Changed(Protocol):
    """What one person gains or loses from a folder on down, and by what."""

    @property
    def person(self) -> str: ...
    @property
    def address(self) -> Address: ...
    @property
    def change(self) -> AccessChange: ...
    @property
    def way(self) -> str: ...
    @property
    def by(self) -> str: ...
    @property
    def unasked(self) -> str: ...


class Outside(Protocol):
    """Somebody who does not come to what they are given, and the gate that stops them."""

    @property
    def person(self) -> str: ...
    @property
    def address(self) -> Address: ...
    @property
    def gate(self) -> Gate: ...
    @property
    def by(self) -> str: ...


def _fold_people(rows: Sequence[Row]) -> list[Row]:
    """Return rows as people see them: those that differ in the person alone are one."""
    found: dict[tuple[Cell, ...], dict[str, Cell]] = {}
    for row in rows:
        key = tuple(cell for name, cell in row.items() if name != "who")
        if key in found:
            found[key]["who"] = f"{_name(found[key]['who'])}, {_name(row['who'])}"
        else:
            found[key] = dict(row)
    return list(found.values())


def _name(cell: Cell) -> str:
    """Return a name as it stands in a list of names."""
    return cell if isinstance(cell, str) else ""


def _fold_findings(rows: Sequence[Row]) -> list[Row]:
    """Return findings as people see them: of each check a row a place, and of many places the first few."""
    by_check: dict[Cell, dict[Cell, list[Row]]] = {}
    for row in rows:
        by_check.setdefault(row["who"], {}).setdefault(row["where"], []).append(row)
    found: list[Row] = []
    for places in by_check.values():
        for number, mine in enumerate(places.values()):
            if number == _MOST_PLACES and len(places) > _MOST_PLACES + 1:
                more = len(places) - number
                found.append({**mine[0], "where": f"{count_of(more, 'more place')}", "by": ""})
                break
            evidence = _name(mine[0]["by"]).partition(" — ")[0]
            found.append({**mine[0], "by": evidence + (f"; and {len(mine) - 1} more" if len(mine) > 1 else "")})
    return found


def supposed_report(
    sentences: Sequence[str],
    changes: Sequence[Changed],
    outside: Sequence[Outside],
    gone: Sequence[Finding],
    come: Sequence[Finding],
    when: str,
) -> Report:
    """Show who gains and loses what first, then expectations and findings that come, then those that go."""
    people: list[Row] = []
    for one in sorted(changes, key=lambda each: _ORDER.index(what_changes(each.change))):
        cells = change_cells(one.change)
        by = f"{one.way}: {one.by}" if one.by else one.way
        people.append({"what": what_changes(one.change), "who": one.person, "where": one.address, **cells, "by": by})
    people += [_row("stays out", one.person, one.address, _stop(one.gate, one.by)) for one in outside]
    findings = []
    for word, some in (("comes", come), ("ends", gone)):
        ordered = sorted(some, key=lambda each: each.check != "expectation-broken")
        findings.append([_row(word, one.check, one.place, one.evidence) for one in ordered])
    said = _headline(changes)
    headline = f"Suppose {' and '.join(sentences)}, as counted on {when}: {said.text}."
    notes = [*_totals(changes, gone, come), "Nothing was changed."]
    rows = [*people, *findings[0], *findings[1]]
    folded = [*_fold_people(people), *(row for some in findings for row in _fold_findings(some))]
    empty = "no access and no finding would change"
    return Report("suppose", headline, _COLUMNS, rows, notes, empty, folded, said.is_assured)


_ORDER = ("gains", "gains and loses", "loses", "not known", "known now")


def _row(what: str, who: str, where: Cell, by: str) -> Row:
    nothing: Cell = ""
    cells = dict.fromkeys(("before", "after", "folders", "files", "with_files", "size", "gained", "lost"), nothing)
    return {"what": what, "who": who, "where": where, **cells, "by": by}


def _stop(gate: Gate, by: str) -> str:
    place = os.fsdecode(gate.place)
    words = {"account": "the account is not open", "service": "the service is off for it"}
    where = words.get(gate.name) or (f"cannot enter {place}" if gate.name == "enter" else f"{gate.name} {place}")
    return f"{where}: {by}" if by else where


def _headline(changes: Sequence[Changed]) -> Said:
    gain = {one.person for one in changes if one.change.gains}
    lose = {one.person for one in changes if one.change.loses}
    unsure = {one.person for one in changes if what_changes(one.change) == "not known"}
    parts = []
    if gain:
        parts.append(f"{count_of(len(gain), 'person')} {'gains' if len(gain) == 1 else 'gain'}")
    if lose:
        parts.append(f"{count_of(len(lose), 'person')} {'loses' if len(lose) == 1 else 'lose'}")
    if unsure:
        parts.append(f"what {count_of(len(unsure), 'person')} would have is not known")
    return assured("suppose", not changes, " and ".join(parts) or "only what is known of it changes")


def _totals(changes: Sequence[Changed], gone: Sequence[Finding], come: Sequence[Finding]) -> list[str]:
    notes = []
    broken = sum(one.check == "expectation-broken" for one in come)
    if broken:
        notes.append(f"{count_of(broken, 'expectation')} of the plan would break.")
    if gone or come:
        notes.append(f"{count_of(len(come), 'finding')} would come, {count_of(len(gone), 'finding')} would end.")
    elif changes:
        notes.append("No finding would come or end.")
    return notes
