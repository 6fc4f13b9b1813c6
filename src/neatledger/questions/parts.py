"""Parts of a question, as workers of a cluster do them: each opens the office for itself, and keeps it for the next.

The office's folder must be there for every worker under the same path, and so must its ledger: on a share that all of
them see, or in a database.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass
from datetime import date
from functools import lru_cache

from neatledger.core.access.everyone import RowBlock, RowFilter
from neatledger.core.checks.contract import Finding, OfficeFacts
from neatledger.core.checks.table import CHECKS, run_checks
from neatledger.core.tree.address import Address
from neatledger.questions import access
from neatledger.questions.access import AccessTable
from neatledger.questions.office import Office, open_office
from neatledger.sources.contract import Workers

__all__ = [
    "CheckPart",
    "OfficeKey",
    "TablePart",
    "check_part",
    "findings_by",
    "key_of",
    "office_at",
    "table_of",
    "table_parts",
]


@dataclass(frozen=True, slots=True)
class OfficeKey:
    """What an office is opened by on a worker; `state` changes whenever another must be opened."""

    folder: str
    today: date
    as_of: date | None
    ledger_at: str
    state: str


def key_of(office: Office) -> OfficeKey:
    """Return the key of an office: its folder, days, ledger, and what it was asked of."""
    count = office.count.id if office.has_count else 0
    where, books = str(office.folder.resolve()), office.books
    return OfficeKey(where, office.today, office.as_of, books.ledger_at, f"{books.plan_digest()} {count}")


@lru_cache(maxsize=1)
def office_at(key: OfficeKey) -> Office:
    """Open an office on a worker; the last one is kept."""
    return open_office(key.folder, as_of=key.as_of, today=key.today, ledger_at=key.ledger_at)


@dataclass(frozen=True, slots=True)
class CheckPart:
    """Some checks of an office, by name."""

    office: OfficeKey
    checks: tuple[str, ...]


@lru_cache(maxsize=1)
def _facts_at(key: OfficeKey) -> OfficeFacts:
    from neatledger.questions.facts import load_facts

    return load_facts(office_at(key))


def check_part(part: CheckPart) -> dict[str, list[Finding]]:
    """Return the findings of some checks by their names."""
    facts = _facts_at(part.office)
    return {name: run_checks(facts, [name]) for name in part.checks}


def findings_by(office: Office, workers: Workers) -> list[Finding]:
    """Return what all checks find, looked for by workers, in the order of `run_checks`."""
    key = key_of(office)
    parts = [CheckPart(key, (name,)) for name in CHECKS]
    found: dict[str, list[Finding]] = {}
    for some in workers.each(check_part, parts):
        found |= some
    wanted = sorted(CHECKS.values(), key=lambda check: -check.severity.rank)
    return [finding for check in wanted for finding in found[check.name]]


@dataclass(frozen=True, slots=True)
class TablePart:
    """A run of the folders of one system's table of access, in reading order; `people` and `below` as asked."""

    office: OfficeKey
    system: str
    people: tuple[str, ...]
    below: Address | None
    which: RowFilter
    start: int
    stop: int


_RUN = 65_536


def table_parts(
    office: Office,
    tables: Iterable[AccessTable],
    people: Sequence[str] | None,
    below: Address | None,
    which: RowFilter,
) -> list[TablePart]:
    """Return the parts of tables of access, in their order."""
    key = key_of(office)
    return [
        TablePart(key, table.system, tuple(people or ()), below, which, start, start + _RUN)
        for table in tables
        for start in range(0, table.folder_count, _RUN)
    ]


@lru_cache(maxsize=2)
def _tables_at(key: OfficeKey, people: tuple[str, ...], below: Address | None) -> dict[str, AccessTable]:
    return {table.system: table for table in access.ask(office_at(key), people or None, below)}


def table_of(part: TablePart) -> tuple[AccessTable, Iterator[RowBlock]]:
    """Return the table that a part is of, and its own rows."""
    table = _tables_at(part.office, part.people, part.below)[part.system]
    folders = table.everyone.matrix.order.order if table.chosen is None else table.chosen
    return table, table.everyone.blocks(part.which, folders[part.start : part.stop])
