"""What the plan says of protection: how much may be lost where, and what is to bring it back."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, fields
from datetime import date, timedelta

from neatledger.core.tree.address import Address, lies_within

__all__ = [
    "BackupRule",
    "EncryptedFolder",
    "ProtectionPlan",
    "SnapshotRule",
    "SystemProtection",
    "Wanted",
    "parse_duration",
    "show_duration",
]

_UNITS = {
    "minute": timedelta(minutes=1), "hour": timedelta(hours=1), "day": timedelta(days=1), "week": timedelta(weeks=1),
    "month": timedelta(days=30), "year": timedelta(days=365),
}  # fmt: skip


def parse_duration(text: str) -> timedelta:
    """Return a length of time, as in ``15 minutes`` or ``1 day``; raises `ValueError`. A month has 30 days."""
    number, _, unit = text.strip().partition(" ")
    one = _UNITS.get(unit.strip().removesuffix("s"))
    if one is None or not number.isdecimal() or len(number) > 5 or not int(number):
        raise ValueError(f"{text[:40]!r} is no length of time")
    return int(number) * one


def show_duration(length: timedelta) -> str:
    """Return a length of time in words, rounded down: in a unit of which it has two, or just one."""
    for name in ("year", "day", "hour"):
        one = _UNITS[name]
        if length >= 2 * one or (length >= one and not length % one):
            return _many(length // one, name)
    return _many(length // _UNITS["minute"], "minute")


def _many(number: int, unit: str) -> str:
    return f"{number} {unit}{'' if number == 1 else 's'}"


@dataclass(frozen=True, slots=True)
class Wanted:
    """What is wanted of one folder and all below it; None: said further up, if anywhere.

    `loss` is how much work may be lost at most, `back` how soon it must be there again, `reach` how far back one must
    be able to go. `copies` is on how many disks it must lie beside its own, `elsewhere` whether one of them must be
    in another place. `restore` are those who may bring it back.
    """

    loss: timedelta | None = None
    back: timedelta | None = None
    reach: timedelta | None = None
    copies: int | None = None
    elsewhere: bool | None = None
    restore: tuple[str, ...] | None = None

    def over(self, above: Wanted) -> Wanted:
        """Return what holds here: what is said here, and the rest from above."""
        mine = {one.name: getattr(self, one.name) for one in fields(self)}
        return Wanted(**{name: getattr(above, name) if value is None else value for name, value in mine.items()})

    @property
    def is_nothing(self) -> bool:
        """Tell whether nothing at all is wanted."""
        return self == Wanted()


@dataclass(frozen=True, slots=True)
class SnapshotRule:
    """Snapshots of a folder: where they lie, how their names say when they were made (empty: the file system does).

    `every` is how often they are made, and `keep` for how long; `took` how long it took at most to bring something
    back. None: not said.
    """

    of: bytes
    where: bytes
    form: str = ""
    every: timedelta | None = None
    keep: timedelta | None = None
    took: timedelta | None = None

    @property
    def name(self) -> str:
        """What it is called."""
        of, where = (one.decode("utf-8", "backslashreplace") for one in (self.of, self.where))
        return f"snapshots of {of} in {where}"


@dataclass(frozen=True, slots=True)
class BackupRule:
    """One backup: of what, without what, to where, how often, for how long; who told of its runs.

    `disk` and `place` are what copies lie on and where; `at` is where they can be reached in a system of the plan.
    `runs` is a table of runs, `archives` a folder of them; `tried` the day on which something was last brought back,
    and `took` how long that took for all of it. `restore` are those who can bring something back from it, as the
    plan says; empty: it does not say.
    """

    name: str
    of: tuple[bytes, ...]
    without: tuple[bytes, ...] = ()
    disk: str = ""
    place: str = ""
    at: Address | None = None
    every: timedelta | None = None
    keep: timedelta | None = None
    runs: str = ""
    archives: str = ""
    tried: date | None = None
    took: timedelta | None = None
    restore: tuple[str, ...] = ()

    @property
    def title(self) -> str:
        """What it is called beside rules of snapshots."""
        return f"backup {self.name}"

    def holds(self, path: bytes) -> bool:
        """Tell whether a folder is in it, and not left out."""
        is_in, is_out = (any(lies_within(path, one) for one in some) for some in (self.of, self.without))
        return is_in and not is_out


@dataclass(frozen=True, slots=True)
class EncryptedFolder:
    """A folder that only a key opens, and who holds it."""

    path: bytes
    holders: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True)
class SystemProtection:
    """What protects one system: the disk that it lies on and the place where that is, and all rules.

    `synced` are folders that are copied to other machines as they change: what is lost here is lost there.
    """

    disk: str = ""
    place: str = ""
    snapshots: tuple[SnapshotRule, ...] = ()
    backups: tuple[BackupRule, ...] = ()
    encrypted: tuple[EncryptedFolder, ...] = ()
    synced: tuple[bytes, ...] = ()


@dataclass(frozen=True)
class ProtectionPlan:
    """Everything that the plan says of protection."""

    wanted: Mapping[Address, Wanted] = field(default_factory=dict)
    systems: Mapping[str, SystemProtection] = field(default_factory=dict)

    def wanted_at(self, address: Address) -> Wanted:
        """Return what is wanted of a folder: by itself, and by all above it."""
        found = Wanted()
        for place in _upwards(address):
            if place in self.wanted:
                found = found.over(self.wanted[place])
        return found

    @property
    def is_said(self) -> bool:
        """Tell whether the plan speaks of protection at all."""
        return bool(self.wanted or self.systems)


def _upwards(address: Address) -> Sequence[Address]:
    """Return a folder and all above it, the nearest first."""
    parts = address.parts
    return [Address(address.system, b"/" + b"/".join(parts[:depth])) for depth in range(len(parts), -1, -1)]
