"""What was found of protection on one system: snapshots, runs of backups, what is encrypted; as a count keeps it."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from datetime import UTC, datetime
from typing import Any

__all__ = ["FoundProtection", "FoundSnapshot", "Run"]


@dataclass(frozen=True, slots=True)
class FoundSnapshot:
    """One snapshot: of which folder, made when (UTC), where it lies; `is_read_only` is None where nobody told."""

    of: bytes
    moment: datetime
    where: bytes
    is_read_only: bool | None = None


@dataclass(frozen=True, slots=True)
class Run:
    """One run of a backup: when (UTC), how much it holds; None: not told. `is_done`: it came to its end."""

    backup: str
    moment: datetime
    bytes: int | None = None
    files: int | None = None
    is_done: bool | None = None


@dataclass(frozen=True)
class FoundProtection:
    """Everything found; `unread` are rules of which nothing could be read: rule → why. `encrypted` are folders."""

    snapshots: Sequence[FoundSnapshot] = ()
    runs: Sequence[Run] = ()
    unread: Mapping[str, str] = field(default_factory=dict)
    encrypted: Mapping[bytes, bool] = field(default_factory=dict)

    def to_facts(self) -> dict[str, Any]:
        """Return what a count keeps: values of JSON."""
        return {
            "snapshots": [
                [one.of.hex(), _text(one.moment), one.where.hex(), one.is_read_only] for one in self.snapshots
            ],
            "runs": [[one.backup, _text(one.moment), one.bytes, one.files, one.is_done] for one in self.runs],
            "unread": dict(self.unread),
            "encrypted": {path.hex(): is_so for path, is_so in self.encrypted.items()},
        }

    @classmethod
    def of_facts(cls, facts: Mapping[str, Any]) -> FoundProtection:
        """Return what a count kept."""
        return cls(
            [
                FoundSnapshot(bytes.fromhex(of), _moment(moment), bytes.fromhex(where), is_read_only)
                for of, moment, where, is_read_only in facts.get("snapshots", ())
            ],
            [Run(name, _moment(moment), *more) for name, moment, *more in facts.get("runs", ())],
            facts.get("unread", {}),
            {bytes.fromhex(path): is_so for path, is_so in facts.get("encrypted", {}).items()},
        )


def _text(moment: datetime) -> str:
    return moment.astimezone(UTC).isoformat(timespec="seconds")


def _moment(text: str) -> datetime:
    return datetime.fromisoformat(text)
