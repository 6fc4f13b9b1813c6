"""The counts of a ledger, as rows."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from datetime import datetime
from typing import Protocol

from neatledger.core.tree.address import Address
from neatledger.core.tree.columns import NotSeen
from neatledger.formats.signature import fingerprint
from neatledger.reports.assurances import assured
from neatledger.reports.report import Column, Report, Row, count_of, moment_cell

__all__ = ["Count", "Part", "counts_report", "not_seen_report"]

_COLUMNS = (
    Column("count", "COUNT", number=True),
    Column("taken", "TAKEN"),
    Column("system", "SYSTEM"),
    Column("source", "SOURCE"),
    Column("folders", "FOLDERS", number=True),
    Column("files", "FILES", number=True),
    Column("not_seen", "NOT SEEN", number=True),
    Column("origin", "TAKEN FROM", cuts=True, spare=True),
    Column("signer", "SIGNED BY", cuts=True, spare=True),
)


class Part(Protocol):
    """What one count says of one system, in short."""

    @property
    def system(self) -> str: ...
    @property
    def source(self) -> str: ...
    @property
    def folders(self) -> int: ...
    @property
    def files(self) -> int: ...
    @property
    def not_seen(self) -> int: ...


class Count(Protocol):
    """One count: its number, when it was taken, and its systems."""

    @property
    def id(self) -> int: ...
    @property
    def taken_at(self) -> datetime: ...
    @property
    def surveys(self) -> Sequence[Part]: ...
    @property
    def origin(self) -> str: ...
    @property
    def signer(self) -> str: ...


def counts_report(counts: Sequence[Count], where: str, names: Mapping[str, str]) -> Report:
    """List every count and system, the newest first; `names` are those of public keys."""
    rows: list[Row] = [
        {
            "count": count.id,
            "taken": moment_cell(count.taken_at),
            "system": one.system,
            "source": one.source,
            "folders": one.folders,
            "files": one.files,
            "not_seen": one.not_seen,
            "origin": count.origin,
            "signer": names.get(count.signer) or fingerprint(count.signer),
        }
        for count in reversed(counts)
        for one in count.surveys
    ]
    return Report("counts", f"{count_of(len(counts), 'count')} in {where}.", _COLUMNS, rows)


_NOT_SEEN_COLUMNS = (Column("place", "PLACE", cuts=True), Column("why", "WHY", wraps=True))


def not_seen_report(system: str, not_seen: Sequence[NotSeen], when: str) -> Report:
    """List what could not be seen of a system: items, and parts of where it is read from."""
    rows: list[Row] = [{"place": one.source or Address(system, one.path), "why": one.why} for one in not_seen]
    headline = f"{count_of(len(rows), 'thing')} of {system} could not be seen on {when}."
    said = assured("all-seen", not rows, "")
    return Report("not-seen", headline, _NOT_SEEN_COLUMNS, said.or_rows(rows), empty=said.text)
