"""Rows of what a service shares, from any table: team folders, members, hand-outs, links, guests, devices, rules.

The names of the columns are those of docs/sharing.md. A row is a mapping of text (CSV) or of JSON's own values.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass
from datetime import date
from typing import Any, TypeVar
from urllib.parse import unquote_to_bytes

from neatledger.core.lists.rights import EVERY_RIGHT, parse_rights
from neatledger.core.plan.limits import UNLIMITED, Limit
from neatledger.core.plan.rules import Guests, PlacedRule, RuleOn, SharingRule
from neatledger.core.space.sizes import NO_LIMIT, parse_size
from neatledger.core.survey.accounts import ADMINISTRATOR, TOP, USER, Admission
from neatledger.core.survey.shared import (
    FORMER_STATES,
    Audience,
    Device,
    HandOut,
    Link,
    Member,
    Reply,
    TeamFolder,
    Towards,
    fingerprint_of,
)
from neatledger.core.tree.address import Address

__all__ = [
    "AccountStatus",
    "Fields",
    "account_status_of",
    "device_of",
    "hand_out_of",
    "link_of",
    "member_of",
    "placed_rule_of",
    "rule_from",
    "rule_from_words",
    "team_of",
]

_YES, _NO = frozenset({"yes", "true", "1", "on"}), frozenset({"no", "false", "0", "off"})
_DAY = re.compile(r"^\d{4}-\d{2}-\d{2}(?:[T ].*)?$")
_FINGERPRINT = re.compile(r"^[0-9a-f]{6,64}$")


T = TypeVar("T")


def _quoted(word: str) -> str:
    """Return a value for an error; in a column that was mistaken for another it may be a link's address."""
    return "an address" if "://" in word else repr(word[:40])


@dataclass(frozen=True, slots=True)
class AccountStatus:
    """What a service says of an account beside its directory: how it came there, and when it was last seen."""

    login: str
    admission: Admission
    last_seen: date | None


class Fields:
    """One row; every method raises `ValueError` that says which column is wrong.

    `doubts` are columns that `perhaps` could not read: what they say is unknown, and the row still counts for that.
    `unknown` are columns of which that was told before.
    """

    def __init__(self, row: Mapping[str, Any], unknown: frozenset[str] = frozenset()) -> None:
        self._row = row
        self._unknown = unknown
        self.doubts: list[str] = []

    @property
    def is_doubtful(self) -> bool:
        """Tell whether anything in the row that was asked for could not be read."""
        return bool(self.doubts or self._unknown)

    def perhaps(self, read: Callable[[str], T], key: str, otherwise: T) -> T:
        """Return what a column says as `read` has it; where that fails note a doubt, and return another value."""
        try:
            return read(key)
        except ValueError as error:
            self.doubts.append(str(error))
            return otherwise

    def text(self, key: str, default: str = "") -> str:
        """Return a column as text, the default where it is empty."""
        value = self._row.get(key)
        if value is None or value == "":
            return default
        if isinstance(value, (dict, list)):
            raise ValueError(f"{key} is no text")
        return str(value).strip()

    def needed(self, key: str) -> str:
        """Return a column that may not be empty."""
        found = self.text(key)
        if not found:
            raise ValueError(f"{key} is empty")
        return found

    def flag(self, key: str) -> bool | None:
        """Return what a column says, None where it says nothing."""
        value = self._row.get(key)
        if isinstance(value, bool):
            return value
        word = self.text(key).casefold()
        if not word:
            return None
        if word not in _YES | _NO:
            raise ValueError(f"{key} says neither yes nor no: {_quoted(word)}")
        return word in _YES

    def number(self, key: str) -> int | None:
        """Return a whole number, None where the column is empty."""
        word = self.text(key)
        if not word:
            return None
        if not word.isdecimal() or len(word) > 18:
            raise ValueError(f"{key} is no whole number: {_quoted(word)}")
        return int(word)

    def size(self, key: str) -> int | None:
        """Return bytes (a number, or a size with its unit), None where the column is empty."""
        word = " ".join(self.text(key).split())
        return self.number(key) if word.isdecimal() or not word else parse_size(word)

    def limit(self, key: str) -> Limit | None:
        """Return a limit in bytes, None where the column is empty; services write a bare 0 for "no limit"."""
        word = " ".join(self.text(key).split())
        return UNLIMITED if word in (NO_LIMIT, "0") else self.size(key)

    def days(self, key: str) -> Limit | None:
        """Return a number of days, or no limit for the words "for ever"; None where the column is empty."""
        return UNLIMITED if self.text(key).casefold() == "for ever" else self.number(key)

    def day(self, key: str) -> date | None:
        """Return a day (of a point in time its date), None where the column is empty."""
        word = self.text(key)
        if not word:
            return None
        if not _DAY.match(word):
            raise ValueError(f"{key} is no day such as 2026-03-31: {_quoted(word)}")
        return date.fromisoformat(word[:10])

    def words(self, key: str) -> tuple[str, ...]:
        """Return several values: a list of JSON, or text parted by semicolons."""
        value = self._row.get(key)
        if isinstance(value, (list, tuple)):
            return tuple(str(each).strip() for each in value)
        return tuple(each.strip() for each in self.text(key).split(";") if each.strip())

    def path(self, key: str = "path") -> bytes:
        """Return a path below the service's root (percent-encoded where need be)."""
        return _path(self.needed(key))

    def one_of(self, key: str, kinds: Mapping[str, Any], default: str = "") -> Any:
        """Return what a word stands for."""
        word = self.text(key, default).casefold()
        if word not in kinds:
            raise ValueError(f"{key} {_quoted(word)} is none of {', '.join(kinds)}")
        return kinds[word]

    def is_file(self) -> bool:
        """Tell whether the row speaks of a file."""
        return bool(self.one_of("type", {"folder": False, "file": True}, "folder"))


def _path(text: str) -> bytes:
    parts = [part for part in unquote_to_bytes(text.encode("utf-8", "surrogateescape")).split(b"/") if part]
    return b"/" + b"/".join(parts)


def _named(kind: Any) -> dict[str, Any]:
    return {each.value: each for each in kind}


def team_of(row: Fields) -> TeamFolder:
    """Return a team folder, without its members."""
    over = row.text("over")
    system, colon, below = over.partition(":")
    if over and (not colon or not system):
        raise ValueError(f"over is no folder such as barn:/Records: {_quoted(over)}")
    path = row.path()
    name = row.text("name") or path.rpartition(b"/")[2].decode("utf-8", "surrogateescape")
    return TeamFolder(
        path,
        name,
        is_on=row.flag("on") is not False,
        over=Address(system, _path(below)) if over else None,
        download=row.flag("download") is not False,
        ends=row.day("ends"),
    )


def member_of(row: Fields) -> tuple[bytes, Member]:
    """Return the path of a team folder and one member of it."""
    is_group = row.one_of("kind", {"person": False, "group": True}, "person")
    reply = row.one_of("reply", _named(Reply), "accepted")
    rights = parse_rights(row.needed("level"))
    return row.path("team"), Member(row.needed("holder"), is_group, rights, reply, row.day("since"))


def hand_out_of(row: Fields, number: int) -> HandOut:
    """Return a hand-out; one without an id of its own is called by its number.

    What it says beside whom it is for and where it is may be unreadable: then what it gives is in doubt.
    """
    receiver, towards, path = row.needed("receiver"), row.one_of("kind", _named(Towards), "person"), row.path()
    rights = row.perhaps(lambda key: parse_rights(row.needed(key)), "level", EVERY_RIGHT)
    is_file = row.perhaps(lambda _: row.is_file(), "type", False)
    made, expires = row.perhaps(row.day, "made", None), row.perhaps(row.day, "expires", None)
    reply = row.perhaps(lambda key: row.one_of(key, _named(Reply), "accepted"), "reply", Reply.ACCEPTED)
    download = row.perhaps(row.flag, "download", None) is not False
    return HandOut(
        row.text("id") or f"row {number}",
        row.text("giver"),
        receiver,
        towards,
        path,
        rights,
        is_file=is_file,
        made=made,
        expires=expires,
        reply=reply,
        download=download,
        passed_from=row.text("passed-from"),
        is_doubtful=row.is_doubtful,
    )


def link_of(row: Fields, number: int) -> Link:
    """Return a link; of its address only the fingerprint is taken on.

    What it says beside where it is may be unreadable: then what it gives is in doubt.
    """
    fingerprint = row.text("fingerprint").casefold()
    if row.text("address"):
        fingerprint = fingerprint_of(row.text("address"))
    elif fingerprint and not _FINGERPRINT.match(fingerprint):
        raise ValueError("fingerprint is none (hexadecimal digits); an address belongs into the column address")
    path = row.path()
    rights = row.perhaps(lambda key: parse_rights(row.needed(key)), "level", EVERY_RIGHT)
    audience = row.perhaps(lambda key: row.one_of(key, _named(Audience), "anyone"), "audience", Audience.ANYONE)
    is_file = row.perhaps(lambda _: row.is_file(), "type", False)
    days = {key: row.perhaps(row.day, key, None) for key in ("made", "starts", "expires", "last-used")}
    flags = {key: row.perhaps(row.flag, key, None) for key in ("password", "encrypted", "on", "download")}
    uses, left = (row.perhaps(row.number, key, None) for key in ("uses", "uses-left"))
    return Link(
        row.text("id") or fingerprint or f"row {number}",
        row.text("maker"),
        path,
        rights,
        audience,
        named=row.words("named"),
        is_file=is_file,
        made=days["made"],
        starts=days["starts"],
        expires=days["expires"],
        password=bool(flags["password"]),
        encrypted=flags["encrypted"] is not False,
        is_on=flags["on"] is not False,
        download=flags["download"] is not False,
        uses=uses or 0,
        uses_left=left,
        last_used=days["last-used"],
        fingerprint=fingerprint,
        is_doubtful=row.is_doubtful,
    )


def device_of(row: Fields, number: int) -> Device:
    """Return a device."""
    states = {word: word for word in ("connected", "lost", "erased")} | FORMER_STATES
    return Device(
        row.text("id") or f"row {number}",
        row.needed("owner"),
        row.text("name") or row.text("id") or f"row {number}",
        kind=row.text("kind"),
        managed=row.flag("managed"),
        state=row.one_of("state", states, "connected"),
        last_seen=row.day("last-seen"),
        folders=tuple(_path(each) for each in row.words("folders")),
        held_bytes=row.size("held"),
    )


def _single_files(row: Fields) -> bool | None:
    # As it was told before: yes or no to single files.
    words = {"folders": False, "folders and files": True}
    shared = row.one_of("share", {word: word for word in ("", *words)}, "")
    return words.get(shared, row.flag("single-files"))


def rule_from(row: Fields) -> SharingRule:
    """Return what a row of rules says."""
    domains = row.words("domains")
    guests = {each.word: each for each in Guests}
    links = {word: word for word in ("nothing", "read", "write")}
    return SharingRule(
        guests=row.one_of("guests", guests) if row.text("guests") else None,
        domains=frozenset(each.casefold() for each in domains) if domains else None,
        open_links=row.one_of("open-links", links) if row.text("open-links") else None,
        download=row.flag("download"),
        link_days=row.number("link-days"),
        folder_days=row.number("folder-days"),
        password=row.flag("password"),
        largest=row.limit("largest"),
        barred=frozenset(each.casefold().lstrip(".") for each in row.words("barred-kinds")),
        pass_on=row.flag("pass-on"),
        chain=row.number("chain"),
        single_files=_single_files(row),
    )


_SETTINGS = (
    *("guests", "domains", "open-links", "download", "link-days", "folder-days", "password", "largest"),
    *("barred-kinds", "pass-on", "chain", "share", "single-files"),
)


def rule_from_words(pairs: Iterable[tuple[str, str]]) -> SharingRule:
    """Return the rule that settings and their values state; raises `ValueError`."""
    row = dict(pairs)
    for key in row:
        if key not in _SETTINGS:
            raise ValueError(f"{key!r} is no rule: there are {', '.join(_SETTINGS)}")
    return rule_from(Fields(row))


def placed_rule_of(row: Fields) -> PlacedRule:
    """Return a rule with what it is put on."""
    on = row.one_of("on", _named(RuleOn))
    name = row.text("name")
    if on is RuleOn.FOLDER:
        name = row.path("name").decode("utf-8", "surrogateescape")
    elif on is RuleOn.PERSON:
        name = row.needed("name")
    return PlacedRule(on, name, rule_from(row))


def account_status_of(row: Fields) -> AccountStatus:
    """Return how an account came to the service and as what, and the day it was last seen."""
    roles = None
    if row.words("roles"):
        known = {USER, ADMINISTRATOR, TOP}
        words = {each.casefold() for each in row.words("roles")} - {"none"}
        if "both" in words:
            words = words - {"both"} | {USER, ADMINISTRATOR}
        if words - known:
            raise ValueError(
                f"roles {', '.join(sorted(words - known))[:60]!r} are none of none, {', '.join(sorted(known))}"
            )
        roles = frozenset(words)
    inviter = row.text("inviter")
    is_guest = row.flag("guest")
    is_first_password = row.text("password-set").casefold() == "never"
    admission = Admission(
        roles=roles,
        entitlements=row.words("entitlements"),
        is_guest=bool(inviter) if is_guest is None else is_guest,
        inviter=inviter,
        invited=row.day("invited"),
        accepted=row.day("accepted"),
        second_factor=row.flag("second-factor"),
        password_set=None if is_first_password else row.day("password-set"),
        is_first_password=is_first_password,
        disable_on=row.day("disable-on"),
        remove_on=row.day("remove-on"),
    )
    return AccountStatus(row.needed("login"), admission, row.day("last-seen"))
