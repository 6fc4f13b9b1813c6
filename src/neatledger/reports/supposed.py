"""An imagined change to access: who gains and loses what, who stays out, and which findings go and come."""

from __future__ import annotations

import os
from collections.abc import Sequence
from typing import Protocol

from neatledger.core.access.comparing import AccessChange
from neatledger.core.access.tree_gates import Gate
from neatledger.core.checks.contract import Finding
from neatledger.core.tree.address import Address
from neatledger.formats.names import show_address
from neatledger.formats.ways import plain_through
from neatledger.reports.assurances import Said, assured
from neatledger.reports.change_words import change_cells, what_changes
from neatledger.reports.report import Aside, Cell, Column, Report, Row, Show, count_of

__all__ = ["Changed", "Outside", "supposed_report"]

_MOST_PLACES = 3
_COLUMNS = (
    Column("what", "WHAT", Show.MACHINE),
    Column("who", "WHO", wraps=True),
    Column("where", "WHERE", cuts=True),
    Column("before", "NOW"),
    Column("after", "THEN"),
    Column("folders", "FOLDERS", number=True),
    Column("file_words", "FILES", Show.PEOPLE, wraps=True),
    Column("with_files", "FILES", Show.MACHINE),
    Column("files", "", Show.MACHINE),
    Column("size", "SIZE", number=True, spare=True),
    Column("by", "BY", Show.MACHINE),
    Column("through", "THROUGH", Show.PEOPLE, wraps=True),
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
    findings: list[list[Row]] = []
    for word, some in (("comes", come), ("ends", gone)):
        ordered = sorted(some, key=lambda each: each.check != "expectation-broken")
        findings.append([_row(word, one.check, one.place, one.evidence) for one in ordered])
    said = _headline(changes)
    words = [f"If {' and '.join(sentences)}: {said.text}.", *_totals(changes, gone, come)]
    rows = [*people, *findings[0], *findings[1]]
    folded: list[Row] = [_shown(row) for row in _fold_people(people)]
    empty = "" if gone or come else "no access and no finding would change"
    report = Report("suppose", " ".join(words), _COLUMNS, rows, [], empty, folded, said.is_assured)
    for title, listed in zip(("FINDINGS ADDED", "FINDINGS ENDED"), findings, strict=True):
        lines = ["  ".join(word for key in _TOLD if (word := _spelled(row[key]))) for row in _fold_findings(listed)]
        report.notes += [Aside(title), *map(Aside, lines)] if lines else []
    report.notes.append("Nothing was changed.")
    return report


_TOLD = ("who", "where", "by")


def _spelled(cell: Cell) -> str:
    """Return what a cell says as a part of a sentence."""
    return show_address(cell) if isinstance(cell, Address) else _name(cell)


def _shown(row: Row) -> Row:
    """Return a row as people read it: the files as one number where they are, and without numbers of accounts."""
    by = str(row["by"])
    files = row["files"] if isinstance(row["files"], int) and row["files"] else row["with_files"]
    return {**row, "file_words": files, "through": plain_through(by)}


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
        parts.append(f"{count_of(len(gain), 'person')} would gain access")
    if lose:
        parts.append(f"{count_of(len(lose), 'person')} would lose access")
    if unsure:
        parts.append(f"what {count_of(len(unsure), 'person')} would have is unknown")
    text = " and ".join(parts) or "only what is known of it changes"
    if gain and not lose and not unsure:
        text += "; nobody loses anything"
    return assured("suppose", not changes, text)


def _totals(changes: Sequence[Changed], gone: Sequence[Finding], come: Sequence[Finding]) -> list[str]:
    broken = sum(one.check == "expectation-broken" for one in come)
    words = [f"breaks {count_of(broken, 'rule')} of the plan"] if broken else []
    words += [f"adds {count_of(len(come), 'finding')}"] if come else []
    words += [f"ends {count_of(len(gone), 'finding')}"] if gone else []
    if words:
        return [f"This {', '.join(words[:-1])}{' and ' if len(words) > 1 else ''}{words[-1]}."]
    return ["It adds and ends no finding."] if changes else []
