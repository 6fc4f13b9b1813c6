"""What a team-folder service shares beside its lists: team folders, hand-outs, links, devices, and its own rules.

A day is None where there is none; the last day of something still belongs to it. Paths are those of
the service's own tree. A link's address is a secret and is not in here: `fingerprint` tells links apart.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, fields, replace
from datetime import date
from enum import Enum
from functools import cache
from hashlib import sha256
from typing import Any, TypeVar

from neatledger.core.lists.rights import Right
from neatledger.core.plan.limits import UNLIMITED, Limit
from neatledger.core.plan.rules import PlacedRule
from neatledger.core.tree.address import Address, parts_of

__all__ = [
    "Audience",
    "Device",
    "HandOut",
    "Link",
    "Member",
    "Reply",
    "Shared",
    "TeamFolder",
    "Towards",
    "fingerprint_of",
    "record_of_facts",
    "record_to_facts",
]

_FINGERPRINT = 10
T = TypeVar("T")


def fingerprint_of(address: str) -> str:
    """Return what stands for a link's address wherever it is kept or shown: the start of its SHA-256."""
    return sha256(address.encode("utf-8", "surrogateescape")).hexdigest()[:_FINGERPRINT]


class Audience(Enum):
    """Whom a link is good for."""

    ANYONE = "anyone"
    GUESTS = "guests"
    OFFICE = "office"
    NAMED = "named"


class Towards(Enum):
    """What a receiver is: an account, a group, or somebody outside with no account here."""

    PERSON = "person"
    GROUP = "group"
    OUTSIDE = "outside"


class Reply(Enum):
    """What became of an invitation."""

    ACCEPTED = "accepted"
    WAITING = "waiting"
    DECLINED = "declined"


@dataclass(frozen=True, slots=True)
class Member:
    """One member of a team folder: an account's login or a group's name, with what the role gives."""

    holder: str
    is_group: bool
    rights: Right
    reply: Reply = Reply.ACCEPTED
    since: date | None = None


@dataclass(frozen=True, slots=True)
class TeamFolder:
    """A folder switched on (or off) as a team folder; `over` is the folder of a share that it lies over."""

    path: bytes
    name: str
    members: tuple[Member, ...] = ()
    is_on: bool = True
    over: Address | None = None
    download: bool = True
    ends: date | None = None

    def why_closed(self, day: date) -> str:
        """Say why it is no team folder on a day; nothing where it is one."""
        if not self.is_on:
            return "it is not switched on as a team folder"
        # The last day still counts, as for everything that has one.
        return f"its sharing ended on {self.ends}" if self.ends and day > self.ends else ""

    @property
    def parts(self) -> tuple[bytes, ...]:
        """The names on the way down to it."""
        return parts_of(self.path)

    def beneath(self, path: bytes) -> Address | None:
        """Return the folder of the share that one of its folders shows; None where it lies over none."""
        if self.over is None:
            return None
        below = path[len(self.path.rstrip(b"/")) :].rstrip(b"/")
        return Address(self.over.system, self.over.path.rstrip(b"/") + below or b"/")


@dataclass(frozen=True, slots=True)
class HandOut:
    """One thing handed from one person to another; `passed_from` names the hand-out that it was passed on from.

    Of one that `is_doubtful` something that it says could not be read.
    """

    id: str
    giver: str
    receiver: str
    towards: Towards
    path: bytes
    rights: Right
    is_file: bool = False
    made: date | None = None
    expires: date | None = None
    reply: Reply = Reply.ACCEPTED
    download: bool = True
    passed_from: str = ""
    is_doubtful: bool = False

    @property
    def is_untold(self) -> bool:
        """Tell whether nobody knows what it gives: its giver was not told, or something that it says not readable."""
        return self.is_doubtful or not self.giver

    def why_dead(self, day: date) -> str:
        """Say why it gives nothing on a day, as far as it says itself; nothing where it does."""
        if self.reply is not Reply.ACCEPTED:
            return "not accepted yet" if self.reply is Reply.WAITING else "declined"
        return f"it ended on {self.expires}" if self.expires and day > self.expires else ""

    def is_live(self, day: date) -> bool:
        """Tell whether it counts on a day, as far as it says itself."""
        return not self.why_dead(day)


@dataclass(frozen=True, slots=True)
class Link:
    """One link: what it gives to whoever is in its audience and holds its address.

    Of one that `is_doubtful` something that it says could not be read.
    """

    id: str
    maker: str
    path: bytes
    rights: Right
    audience: Audience
    named: tuple[str, ...] = ()
    is_file: bool = False
    made: date | None = None
    starts: date | None = None
    expires: date | None = None
    password: bool = False
    encrypted: bool = True
    is_on: bool = True
    download: bool = True
    uses: int = 0
    uses_left: int | None = None
    last_used: date | None = None
    fingerprint: str = ""
    is_doubtful: bool = False

    def why_dead(self, day: date) -> str:
        """Say why it opens nothing on a day; nothing where it is live."""
        if not self.is_on:
            return "it is switched off"
        if self.starts and day < self.starts:
            return f"it begins on {self.starts}"
        if self.expires and day > self.expires:
            return f"it ended on {self.expires}"
        # None is a link whose uses nobody limits.
        return "all its uses are spent" if self.uses_left is not None and self.uses_left <= 0 else ""


FORMER_STATES = {"linked": "connected", "wiped": "erased"}
"""State of a device, as it was called before, and today."""


@dataclass(frozen=True, slots=True)
class Device:
    """A device that holds copies; `held_bytes` is None where the service does not tell."""

    id: str
    owner: str
    name: str
    kind: str = ""
    managed: bool | None = None
    state: str = "connected"
    last_seen: date | None = None
    folders: tuple[bytes, ...] = ()
    held_bytes: int | None = None

    def __post_init__(self) -> None:
        # Counts and steps that were kept before have the former words.
        object.__setattr__(self, "state", FORMER_STATES.get(self.state, self.state))


@dataclass(frozen=True)
class Shared:
    """All that one service shares; `is_running` is the service's own switch, `wants` the entitlement it asks for.

    `versions` is how many old versions of a file it keeps, `bin_days` for how long its bin does; None: not told.
    """

    teams: tuple[TeamFolder, ...] = ()
    hand_outs: tuple[HandOut, ...] = ()
    links: tuple[Link, ...] = ()
    devices: tuple[Device, ...] = ()
    rules: tuple[PlacedRule, ...] = ()
    is_running: bool = True
    wants: str = ""
    versions: int | None = None
    bin_days: Limit | None = None

    def to_facts(self) -> dict[str, Any]:
        """Return what the ledger keeps: values of JSON, every table as the names of its columns and its rows."""
        tables = {name: _to_table(kind, getattr(self, name)) for name, kind in _TABLES.items()}
        rules = [one.to_facts() for one in self.rules]
        days = -1 if self.bin_days is UNLIMITED else self.bin_days
        kept = {"versions": self.versions, "bin_days": days}
        mine = {"running": self.is_running, "wants": self.wants, "kept": kept}
        return {**tables, "version": _VERSION, "rules": rules, **mine}

    @classmethod
    def of_facts(cls, facts: Mapping[str, Any]) -> Shared:
        """Return what the ledger kept, in this form or an earlier one; raises `ValueError` for a later one."""
        version = facts.get("version", 1)
        if version > _VERSION:
            raise ValueError(f"of a newer version ({version}, this knows {_VERSION})")
        tables: dict[str, Any] = {
            name: _of_table(kind, facts.get(name, ()), version) for name, kind in _TABLES.items()
        }
        rules = tuple(PlacedRule.of_facts(one) for one in facts.get("rules", ()))
        if version == 1:
            # There a 0 stood for "no limit".
            rules = tuple(
                replace(one, rule=replace(one.rule, largest=UNLIMITED)) if one.rule.largest == 0 else one
                for one in rules
            )
        kept = facts.get("kept") or {}
        days = kept.get("bin_days")
        return cls(
            **tables,
            rules=rules,
            is_running=facts["running"],
            wants=facts["wants"],
            versions=kept.get("versions"),
            bin_days=UNLIMITED if days == -1 else days,
        )


_VERSION = 2
_TABLES: dict[str, type] = {"teams": TeamFolder, "hand_outs": HandOut, "links": Link, "devices": Device}
_ENUMS: dict[str, type[Enum]] = {"towards": Towards, "reply": Reply, "audience": Audience}
_DAYS = frozenset({"since", "ends", "made", "expires", "starts", "last_used", "last_seen"})
# The columns of the first form, which kept rows without names.
_FIRST_COLUMNS: dict[type, tuple[str, ...]] = {
    Member: ("holder", "is_group", "rights", "reply", "since"),
    TeamFolder: ("path", "name", "members", "is_on", "over", "download", "ends"),
    HandOut: (
        *("id", "giver", "receiver", "towards", "path", "rights", "is_file", "made", "expires", "reply"),
        *("download", "passed_from"),
    ),
    Link: (
        *("id", "maker", "path", "rights", "audience", "named", "is_file", "made", "starts", "expires", "password"),
        *("encrypted", "is_on", "download", "uses", "uses_left", "last_used", "fingerprint"),
    ),
    Device: ("id", "owner", "name", "kind", "managed", "state", "last_seen", "folders", "held_bytes"),
}


def _to_value(value: Any) -> Any:
    match value:
        case Enum():
            # A right is a number and an enumeration at once.
            return int(value) if isinstance(value, Right) else value.value
        case bytes():
            return value.decode("utf-8", "surrogateescape")
        case date():
            return value.isoformat()
        case Address():
            return [value.system, _to_value(value.path)]
        case tuple():
            return [_to_value(one) for one in value]
        case _:
            return value


def _to_table(kind: Any, records: Sequence[Any]) -> dict[str, Any]:
    names = [each.name for each in fields(kind)]
    rows = [
        [_to_table(Member, one.members) if name == "members" else _to_value(getattr(one, name)) for name in names]
        for one in records
    ]
    return {"columns": names, "rows": rows}


def record_to_facts(record: Any) -> dict[str, Any]:
    """Return one record of what is shared as values of JSON, by name."""
    table = _to_table(type(record), [record])
    return dict(zip(table["columns"], table["rows"][0], strict=True))


def record_of_facts(kind: type[T], facts: Mapping[str, Any]) -> T:
    """Return what `record_to_facts` made."""
    found: T = _of_table(kind, {"columns": list(facts), "rows": [list(facts.values())]}, _VERSION)[0]
    return found


@cache
def _right(value: int) -> Right:
    return Right(value)


@cache
def _day(value: str) -> date:
    return date.fromisoformat(value)


_BY_VALUE = {name: {each.value: each for each in kind} for name, kind in _ENUMS.items()}


def _of_value(name: str, value: Any, version: int) -> Any:
    if name == "path":
        return value.encode("utf-8", "surrogateescape")
    if name == "rights":
        return _right(value)
    if name in _BY_VALUE:
        return _BY_VALUE[name][value]
    if name in _DAYS:
        return _day(value) if value else None
    if name == "over":
        return None if value is None else Address(value[0], value[1].encode("utf-8", "surrogateescape"))
    if name == "members":
        return _of_table(Member, value, version)
    if name == "folders":
        return tuple(one.encode("utf-8", "surrogateescape") for one in value)
    return tuple(value) if name == "named" else value


_CHANGED = frozenset({"path", "rights", "over", "members", "folders", "named", *_ENUMS, *_DAYS})


def _of_table(kind: Any, table: Any, version: int) -> tuple[Any, ...]:
    """Return records from a table; column by column, for there may be tens of thousands."""
    names = _FIRST_COLUMNS[kind] if version == 1 else table["columns"]
    columns: list[Iterable[Any]] = list(zip(*(table if version == 1 else table["rows"]), strict=True))
    if not columns:
        return ()
    known = {each.name for each in fields(kind)}
    kept = [
        (name, [_of_value(name, value, version) for value in column] if name in _CHANGED else column)
        for name, column in zip(names, columns, strict=True)
        # What a later version knows and this one does not is passed over.
        if name in known
    ]
    order = [name for name, _ in kept]
    rows = zip(*(column for _, column in kept), strict=True)
    if order == [each.name for each in fields(kind)]:
        return tuple(kind(*row) for row in rows)
    return tuple(kind(**dict(zip(order, row, strict=True))) for row in rows)
