"""Entries of a directory as accounts and groups.

Source of the attributes: RFC 4519 (person, groupOfNames, groupOfUniqueNames), RFC 2798 (inetOrgPerson),
RFC 2307 (posixAccount, posixGroup, shadowAccount), MS-ADA1 to MS-ADA3 (objectSid, userAccountControl,
lastLogonTimestamp, accountExpires, lockoutTime, pwdLastSet, groupType, primaryGroupID). Names are compared after
RFC 4514.
"""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import UTC, date, datetime, time, timedelta
from functools import lru_cache

from ldap3.core.exceptions import LDAPExceptionError
from ldap3.utils.dn import parse_dn

from neatledger.core.lists.descriptors import is_sid, unpack_sid
from neatledger.core.lists.identifiers import NEVER_OVER_NETWORK, WELL_KNOWN
from neatledger.core.survey.accounts import ANYONE_ELSE, Account, AccountState, Group
from neatledger.errors import FormatError
from neatledger.formats.filetime import day_of_filetime

__all__ = ["LOCKED_FOR_EVER", "Entry", "Places", "accounts_of", "normal_name", "state_of"]

_PEOPLE = frozenset(
    {"person", "inetorgperson", "organizationalperson", "posixaccount", "account", "user", "sambasamaccount"}
)
_GROUPS = frozenset(
    {"posixgroup", "groupofnames", "groupofuniquenames", "group", "groupofmembers", "sambagroupmapping"}
)
_NOT_PEOPLE = frozenset({"computer", "contact"})
_POLICY = "pwdpolicy"
_DOMAIN = frozenset({"domain", "domaindns"})
# ADS_UF_ACCOUNT_DISABLE, ADS_UF_LOCKOUT, ADS_UF_DONT_EXPIRE_PASSWD, ADS_UF_PASSWORD_EXPIRED, MS-ADTS 2.2.16
_DISABLED, _LOCKOUT, _KEEPS_PASSWORD, _PASSWORD_EXPIRED = 0x2, 0x10, 0x10000, 0x800000
_SECURITY_ENABLED = 0x80000000  # GROUP_TYPE_SECURITY_ENABLED, MS-ADTS 2.2.12
_UNIQUE_ID = re.compile(r"#'[01]*'B$")  # the optional UID behind a name, RFC 4517 section 3.3.21
_TICKS = 10_000_000  # of 100 ns a second
_FOR_EVER = -(1 << 63)
LOCKED_FOR_EVER = "000001010000Z"
"""Stands where an account is locked until an administrator opens it (draft-behera-ldap-password-policy 5.3.3)."""


@dataclass(frozen=True, slots=True)
class Entry:
    """One entry: its name, and its attributes by name in small letters; where `is_cut`, some values are missing."""

    name: str
    attributes: Mapping[str, Sequence[bytes]]
    is_cut: bool = False

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


@dataclass(frozen=True, slots=True)
class _Policy:
    """What a domain says of locking and of passwords, in seconds; None where it is not told, 0 for no end."""

    lockout_seconds: float | None = None
    password_seconds: float | None = None

    @classmethod
    def of(cls, entries: Iterable[Entry]) -> _Policy:
        """Return the policy of the domain among some entries (MS-ADA1 lockoutDuration, MS-ADA2 maxPwdAge)."""
        for entry in entries:
            if entry.classes & _DOMAIN and entry.text("lockoutduration", "maxpwdage"):
                return cls(_span(entry.text("lockoutduration")), _span(entry.text("maxpwdage")))
        return cls()


def _span(text: str) -> float | None:
    """Return a span of a directory (100 ns, below zero) in seconds; 0 for one without an end."""
    if not text.removeprefix("-").isdecimal():
        return None
    ticks = int(text)
    return 0.0 if ticks in (0, _FOR_EVER) else abs(ticks) / _TICKS


def _moment(entry: Entry, name: str) -> datetime | None:
    """Return a moment (FILETIME, MS-DTYP 2.3.3), None for none."""
    ticks = _number(entry.text(name))
    if not 0 < ticks < 1 << 62:
        return None
    try:
        return datetime(1601, 1, 1, tzinfo=UTC) + timedelta(microseconds=ticks // 10)
    except OverflowError:
        return None


def _domain_state(entry: Entry, now: datetime, policy: _Policy) -> AccountState | None:
    """Return what a domain says of an account beside its being disabled or over; None where nothing closes it."""
    control = _number(entry.text("useraccountcontrol"))
    computed = entry.text("msds-user-account-control-computed")
    bits = _number(computed) if computed else 0
    locked = _moment(entry, "lockouttime")
    if bits & _LOCKOUT:
        return AccountState.LOCKED
    if locked is not None and not computed:
        if policy.lockout_seconds is None:
            return AccountState.UNKNOWN
        if not policy.lockout_seconds or locked + timedelta(seconds=policy.lockout_seconds) > now:
            return AccountState.LOCKED
    if control & _KEEPS_PASSWORD or not entry.text("pwdlastset"):
        return AccountState.EXPIRED_PASSWORD if bits & _PASSWORD_EXPIRED else None
    set_on = _moment(entry, "pwdlastset")
    if set_on is None:
        return AccountState.MUST_CHANGE
    is_old = bool(policy.password_seconds) and set_on + timedelta(seconds=policy.password_seconds or 0) <= now
    return AccountState.EXPIRED_PASSWORD if bits & _PASSWORD_EXPIRED or (is_old and not computed) else None


def _state(entry: Entry, today: date, policy: _Policy) -> AccountState:
    locked = entry.text("nsaccountlock", "logindisabled").casefold() == "true"
    since = entry.text("pwdaccountlockedtime")
    locked |= since == LOCKED_FOR_EVER or "D" in entry.text("sambaacctflags")
    if locked or _number(entry.text("useraccountcontrol")) & _DISABLED:
        return AccountState.DISABLED
    if since:
        # So many wrong passwords were tried: it opens again by itself, if the policy says so.
        return AccountState.LOCKED
    days = entry.text("shadowexpire")
    if days.isdecimal() and date(1970, 1, 1) + timedelta(days=min(int(days), 1_000_000)) <= today:
        return AccountState.EXPIRED
    expires = day_of_filetime(_number(entry.text("accountexpires")))
    if expires and expires <= today:
        return AccountState.EXPIRED
    # A count of another day is judged for noon of it.
    now = datetime.now(UTC) if today == date.today() else datetime.combine(today, time(12), UTC)
    return _domain_state(entry, now, policy) or AccountState.OPEN


def _last_seen(entry: Entry) -> date | None:
    days = [day_of_filetime(_number(one)) for one in entry.texts("lastlogontimestamp", "lastlogon")]
    for text in entry.texts("authtimestamp", "pwdlastsuccess"):  # generalized time, RFC 4517 3.3.13
        try:
            days.append(datetime.strptime(text[:8], "%Y%m%d").date())
        except ValueError:
            continue
    return max((day for day in days if day), default=None)


def _login(entry: Entry) -> str:
    # In a domain people sign in by this name, whatever else they are called.
    return entry.text("samaccountname", "uid", "userid", "cn")


def accounts_of(entries: Iterable[Entry], today: date, *, by_sid: bool) -> tuple[list[Account], list[Group]]:
    """Return the accounts and groups among some entries.

    `by_sid` takes security identifiers for identifiers where an entry has one, else numbers; what has
    neither is known by its login or name. Groups are told apart by their places in the directory, whatever they are
    called. A member that is no entry here is kept as one not told; groups that are lists of mail alone
    (MS-ADTS 2.2.12) give no access, and are left out.
    """
    people: dict[str, Entry] = {}
    groups: dict[str, Entry] = {}
    others: set[str] = set()
    entries = list(entries)
    for entry in entries:
        classes, name = entry.classes, normal_name(entry.name)
        if classes & _GROUPS and _gives_access(entry):
            groups.setdefault(name, entry)
        elif classes & _PEOPLE and not classes & (_NOT_PEOPLE | _GROUPS) and _login(entry):
            people.setdefault(name, entry)
        else:
            others.add(name)
    logins = {name: _login(entry) for name, entry in people.items()}
    names = _group_names(groups)
    idents = {name: _ident(entry, "gidnumber", by_sid, names[name]) for name, entry in groups.items()}
    numbers = {entry.text("gidnumber"): idents[name] for name, entry in groups.items()}
    policy = _Policy.of(entries)
    accounts = [_account(entry, today, by_sid, numbers, policy) for entry in people.values()]
    of_sid = {_sid(entry): name for name, entry in groups.items()}
    primary: dict[str, list[str]] = {}
    for name, entry in people.items():
        # The primary group has no member line for its people (MS-ADTS 3.1.1.1.1), whatever identifiers lists use.
        group = of_sid.get(f"{_sid(entry).rpartition('-')[0]}-{entry.text('primarygroupid')}")
        if group is not None:
            primary.setdefault(group, []).append(logins[name])
    found = []
    for name, entry in groups.items():
        told = _Members([], [], [ANYONE_ELSE] if entry.is_cut else [])
        for one in _member_names(entry):
            told.add(one, logins, idents, others)
        direct = [*told.logins, *entry.texts("memberuid"), *primary.get(name, ())]
        found.append(Group(names[name], idents[name], *_once(direct, told.nested, told.untold)))
    unique: dict[str, Account] = {}
    for account in accounts:
        unique.setdefault(account.login, account)
    return sorted(unique.values(), key=lambda one: one.login), sorted(found, key=lambda one: (one.name, one.ident))


def _once(*lists: Sequence[str]) -> Iterator[tuple[str, ...]]:
    return (tuple(dict.fromkeys(each)) for each in lists)


def _gives_access(entry: Entry) -> bool:
    kind = entry.text("grouptype")
    return not kind or bool(_number(kind) & _SECURITY_ENABLED)


def _group_names(groups: Mapping[str, Entry]) -> dict[str, str]:
    """Return what groups are called; of several of one name each with where it stands."""
    names = {name: entry.text("samaccountname", "cn") or name for name, entry in groups.items()}
    taken = Counter(names.values())
    return {
        name: called if taken[called] == 1 else f"{called} ({groups[name].name.partition(',')[2]})"
        for name, called in names.items()
    }


def _member_names(entry: Entry) -> list[str]:
    return entry.texts("member") + [_UNIQUE_ID.sub("", one) for one in entry.texts("uniquemember")]


@dataclass(frozen=True, slots=True)
class Places:
    """Where accounts and groups stand in a directory: entries by login, and by a group's identifier and name.

    `lockouts` are its password policies by name (`normal_name`): whether each lets accounts be locked (pwdLockout).
    """

    people: Mapping[str, Entry]
    groups: Mapping[tuple[str, str], Entry]
    lockouts: Mapping[str, bool] = field(default_factory=dict)

    @classmethod
    def of(cls, entries: Iterable[Entry], *, by_sid: bool) -> Places:
        """Return the places among some entries, told apart as `accounts_of` does."""
        people: dict[str, Entry] = {}
        groups: dict[str, Entry] = {}
        lockouts: dict[str, bool] = {}
        for entry in entries:
            classes = entry.classes
            if _POLICY in classes:
                lockouts[normal_name(entry.name)] = entry.text("pwdlockout").casefold() == "true"
            elif classes & _GROUPS and _gives_access(entry):
                groups.setdefault(normal_name(entry.name), entry)
            elif classes & _PEOPLE and not classes & (_NOT_PEOPLE | _GROUPS) and _login(entry):
                people.setdefault(_login(entry), entry)
        names = _group_names(groups)
        found = {
            (_ident(entry, "gidnumber", by_sid, names[name]), names[name]): entry for name, entry in groups.items()
        }
        return cls(people, found, lockouts)


def state_of(entry: Entry, today: date) -> AccountState:
    """Return whether an account can be used, by its entry alone."""
    return _state(entry, today, _Policy())


@dataclass(slots=True)
class _Members:
    """Who is in a group: logins, identifiers of groups, and members of whom nothing is told."""

    logins: list[str]
    nested: list[str]
    untold: list[str]

    def add(self, member: str, logins: Mapping[str, str], idents: Mapping[str, str], others: set[str]) -> None:
        """Add a member by its name in the directory."""
        name = normal_name(member)
        if name in logins:
            self.logins.append(logins[name])
        elif name in idents:
            self.nested.append(idents[name])
        elif (sid := _foreign(member)) in WELL_KNOWN:
            # What is known everywhere stands in a directory as something from outside. Whether a server then counts
            # all who sign in is its own affair: the groups that a domain tells of people (tokenGroups) leave it out.
            if sid not in NEVER_OVER_NETWORK:
                self.untold.append(sid)
        elif name not in others or sid:
            self.untold.append(sid or member)


def _foreign(member: str) -> str:
    """Return the identifier that names a member from another domain (MS-ADTS 3.1.1.1.1); empty for others."""
    first = member.partition(",")[0].partition("=")[2].strip(" >").upper()
    return first if is_sid(first) else ""


def _account(entry: Entry, today: date, by_sid: bool, numbers: Mapping[str, str], policy: _Policy) -> Account:
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
        _state(entry, today, policy),
        last_seen=_last_seen(entry),
    )
