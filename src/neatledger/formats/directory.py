"""Entries of a directory as accounts and groups.

Source of the attributes: RFC 4519 (person, groupOfNames, groupOfUniqueNames), RFC 2798 (inetOrgPerson),
RFC 2307 (posixAccount, posixGroup, shadowAccount), MS-ADA1 to MS-ADA3 (objectSid, userAccountControl,
lastLogonTimestamp, accountExpires). Names are compared after RFC 4514.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from datetime import date, datetime, timedelta
from functools import lru_cache

from ldap3.core.exceptions import LDAPExceptionError
from ldap3.utils.dn import parse_dn

from neatledger.core.lists.descriptors import is_sid, unpack_sid
from neatledger.core.survey.accounts import Account, AccountState, Group
from neatledger.errors import FormatError
from neatledger.formats.filetime import day_of_filetime

__all__ = ["Entry", "accounts_of", "normal_name"]

_PEOPLE = frozenset(
    {"person", "inetorgperson", "organizationalperson", "posixaccount", "account", "user", "sambasamaccount"}
)
_GROUPS = frozenset(
    {"posixgroup", "groupofnames", "groupofuniquenames", "group", "groupofmembers", "sambagroupmapping"}
)
_NOT_PEOPLE = frozenset({"computer"})
_DISABLED = 0x2  # ADS_UF_ACCOUNT_DISABLE, MS-ADTS 2.2.16


@dataclass(frozen=True, slots=True)
class Entry:
    """One entry: its name, and its attributes by name in small letters."""

    name: str
    attributes: Mapping[str, Sequence[bytes]]

    def text(self, *names: str) -> str:
        """Return the first value that one of some attributes has, empty where none has any."""
        for name in names:
            for value in self.attributes.get(name, ()):
                return value.decode("utf-8", "surrogateescape")
        return ""

    def texts(self, *names: str) -> list[str]:
        """Return all values of some attributes."""
        return [value.decode("utf-8", "surrogateescape") for name in names for value in self.attributes.get(name, ())]

    @property
    def classes(self) -> set[str]:
        """The entry's object classes in small letters."""
        return {name.lower() for name in self.texts("objectclass")}


@lru_cache(maxsize=65536)
def normal_name(name: str) -> str:
    """Return a distinguished name in a form in which equal ones are equal: case and spaces do not matter."""
    try:
        parts = parse_dn(name, escape=False, strip=True)
    except (LDAPExceptionError, IndexError, ValueError):
        return " ".join(name.casefold().split())
    return ",".join(f"{key.lower()}={' '.join(value.casefold().split())}{end}" for key, value, end in parts)


def _sid(entry: Entry) -> str:
    for value in entry.attributes.get("objectsid", ()):
        text = value.decode("ascii", "replace")
        try:
            return text if is_sid(text) else unpack_sid(value)
        except FormatError:
            continue
    text = entry.text("sambasid")
    return text if is_sid(text) else ""


def _ident(entry: Entry, number: str, by_sid: bool, name: str) -> str:
    found = (_sid(entry), entry.text(number))
    return next((one for one in (found if by_sid else found[::-1]) if one), name)


def _number(text: str) -> int:
    try:
        return int(text)
    except ValueError:
        return 0


def _state(entry: Entry, today: date) -> AccountState:
    locked = entry.text("nsaccountlock", "logindisabled").casefold() == "true"
    locked |= bool(entry.text("pwdaccountlockedtime")) or "D" in entry.text("sambaacctflags")
    if locked or _number(entry.text("useraccountcontrol")) & _DISABLED:
        return AccountState.DISABLED
    days = entry.text("shadowexpire")
    if days.isdecimal() and date(1970, 1, 1) + timedelta(days=min(int(days), 1_000_000)) <= today:
        return AccountState.EXPIRED
    expires = day_of_filetime(_number(entry.text("accountexpires")))
    return AccountState.EXPIRED if expires and expires <= today else AccountState.OPEN


def _last_seen(entry: Entry) -> date | None:
    days = [day_of_filetime(_number(one)) for one in entry.texts("lastlogontimestamp", "lastlogon")]
    for text in entry.texts("authtimestamp", "pwdlastsuccess"):  # generalized time, RFC 4517 3.3.13
        try:
            days.append(datetime.strptime(text[:8], "%Y%m%d").date())
        except ValueError:
            continue
    return max((day for day in days if day), default=None)


def _login(entry: Entry) -> str:
    return entry.text("uid", "samaccountname", "userid", "cn")


def accounts_of(entries: Iterable[Entry], today: date, *, by_sid: bool) -> tuple[list[Account], list[Group]]:
    """Return the accounts and groups among some entries.

    `by_sid` takes security identifiers for identifiers where an entry has one, else numbers; what has
    neither is known by its login or name. Members that are no entry here are left out.
    """
    people: dict[str, Entry] = {}
    groups: dict[str, Entry] = {}
    for entry in entries:
        classes = entry.classes
        if classes & _GROUPS:
            groups.setdefault(normal_name(entry.name), entry)
        elif classes & _PEOPLE and not classes & _NOT_PEOPLE and _login(entry):
            people.setdefault(normal_name(entry.name), entry)
    logins = {name: _login(entry) for name, entry in people.items()}
    names = {name: entry.text("cn", "samaccountname") or name for name, entry in groups.items()}
    idents = {name: _ident(entry, "gidnumber", by_sid, names[name]) for name, entry in groups.items()}
    numbers = {entry.text("gidnumber"): idents[name] for name, entry in groups.items()}
    accounts = [_account(entry, today, by_sid, numbers) for entry in people.values()]
    found = []
    for name, entry in groups.items():
        members = [normal_name(one.partition("#")[0]) for one in entry.texts("member", "uniquemember")]
        direct = [logins[one] for one in members if one in logins] + entry.texts("memberuid")
        nested = [names[one] for one in members if one in names]
        found.append(Group(names[name], idents[name], tuple(dict.fromkeys(direct)), tuple(dict.fromkeys(nested))))
    unique: dict[str, Account] = {}
    for account in accounts:
        unique.setdefault(account.login, account)
    return sorted(unique.values(), key=lambda one: one.login), sorted(found, key=lambda one: (one.name, one.ident))


def _account(entry: Entry, today: date, by_sid: bool, numbers: Mapping[str, str]) -> Account:
    login = _login(entry)
    ident = _ident(entry, "uidnumber", by_sid, login)
    primary = entry.text("gidnumber")
    if by_sid and entry.text("primarygroupid") and is_sid(ident):
        primary = f"{ident.rpartition('-')[0]}-{entry.text('primarygroupid')}"
    elif primary:
        primary = numbers.get(primary, primary)
    return Account(
        login,
        ident,
        primary,
        entry.text("displayname", "cn", "gecos"),
        entry.text("mail"),
        entry.text("homedirectory"),
        entry.text("loginshell"),
        _state(entry, today),
        last_seen=_last_seen(entry),
    )
