"""People and groups of a directory: live over LDAP (RFC 4511 to 4519), or from its LDIF export.

A live directory is read in pages (RFC 2696) over TLS (LDAPS or StartTLS, RFC 4513); without it only where the
plan says so, since names and a password would pass in the clear. A referral (RFC 4511 4.1.10, 4.5.3) is never
followed: it names a host that nobody here trusted with the password. What lies there is said not to be seen.
"""

from __future__ import annotations

import re
import ssl
import time
from collections.abc import Mapping, Sequence
from contextlib import suppress
from dataclasses import replace
from importlib.util import find_spec
from pathlib import Path
from typing import Any
from urllib.parse import urlsplit

from neatledger.core.survey.accounts import Account, Admission, Group
from neatledger.core.tree.columns import NotSeen
from neatledger.errors import MissingPartError, SourceError
from neatledger.formats.directory import Entry, Places, accounts_of
from neatledger.formats.directoryswitch import switch_of
from neatledger.formats.ldif import parse_ldif
from neatledger.sources.contract import SourceContext
from neatledger.sources.ldapsound import make_sound

__all__ = [
    "close",
    "in_words",
    "make_connection",
    "read_entry",
    "read_ldap_accounts",
    "search",
    "sign_in",
    "starts_tls",
    "wants_sids",
]

_FILTER = (
    "(|(objectClass=person)(objectClass=inetOrgPerson)(objectClass=posixAccount)(objectClass=account)"
    "(objectClass=posixGroup)(objectClass=groupOfNames)(objectClass=groupOfUniqueNames)(objectClass=group)"
    "(objectClass=domain)(objectClass=domainDNS)(objectClass=pwdPolicy))"
)
_REFERRAL = 10  # RFC 4511 appendix A.1
_LIMITS = {3: "time", 4: "size", 11: "what one may ask for"}
_SPLIT_BY, _SMALLER_PAGES = ("cn", "uid"), (200, 50, 10)
_LETTERS, _DEEPEST, _MOST_ASKED = "abcdefghijklmnopqrstuvwxyz0123456789", 3, 2_000
_WANTED = [
    "objectClass", "uid", "sAMAccountName", "cn", "displayName", "gecos", "mail", "homeDirectory", "loginShell",
    "uidNumber", "gidNumber", "objectSid", "sambaSID", "primaryGroupID", "member", "uniqueMember", "memberUid",
    "userAccountControl", "nsAccountLock", "loginDisabled", "pwdAccountLockedTime", "sambaAcctFlags", "shadowExpire",
    "groupType", "lockoutTime", "pwdLastSet", "msDS-User-Account-Control-Computed", "lockoutDuration", "maxPwdAge",
    "accountExpires", "lastLogonTimestamp", "lastLogon", "authTimestamp", "pwdLastSuccess",
    "pwdChangedTime", "pwdPolicySubentry", "pwdLockout",
]  # fmt: skip


def read_ldap_accounts(
    context: SourceContext, setting: Mapping[str, Any]
) -> tuple[list[Account], list[Group], list[NotSeen]]:
    """Read the directory of ``ldif`` or ``ldap`` in the settings; raises `SourceError`."""
    not_seen: list[NotSeen] = []
    if "ldif" in setting:
        path = context.office_dir / setting["ldif"]
        try:
            text = Path(path).read_text("utf-8-sig", "surrogateescape")
        except OSError as error:
            raise SourceError(f"cannot read the directory's export: {error.strerror}", str(path)) from None
        entries, faults = parse_ldif(text, str(path))
        not_seen = [
            NotSeen.of_source(fault.where, f"found {fault.found}; expected {fault.expected}") for fault in faults
        ]
    else:
        entries = _read_live(context, setting["ldap"], not_seen)
    by_sid = wants_sids(context.settings, setting)
    accounts, groups = accounts_of(entries, context.today, by_sid=by_sid)
    places = Places.of(entries, by_sid=by_sid)
    lacking = {login for login, entry in places.people.items() if switch_of(entry, places.lockouts) is None}
    lacks = Admission(lacks_switch=True)
    accounts = [replace(one, admission=lacks) if one.login in lacking else one for one in accounts]
    if not accounts and not groups:
        where = str(setting.get("ldif") or setting["ldap"]["base"])
        not_seen.append(NotSeen.of_source(where, "there are no people or groups: see base and filter in the plan"))
    return accounts, groups, not_seen


def wants_sids(settings: Mapping[str, Any], setting: Mapping[str, Any]) -> bool:
    """Tell whether lists of a system speak of security identifiers, and not of numbers."""
    default = "sid" if settings["source"] == "smb" or settings.get("lists") == "nt" else "number"
    return str(setting.get("ids", default)) == "sid"


_WAITS = (0.25, 1.0, 4.0)
"""Seconds after which a directory that went away while it was read is read again."""


def make_connection(context: SourceContext, setting: Mapping[str, Any], user: str, *, changes: bool = False) -> Any:
    """Return a connection to the directory of ``ldap`` in the settings, not open yet; raises `SourceError`.

    It signs in as `user` (nobody's name: not at all, or by a ticket), and can change things only with `changes`.
    """
    import ldap3

    url = urlsplit(str(setting["url"]))
    where, timeout = str(setting["url"]), max(1, int(setting.get("timeout", 30)))
    if url.scheme not in ("ldap", "ldaps") or not url.hostname:
        raise SourceError("not the address of a directory", where, "write it as ldaps://host or ldap://host:389")
    words: dict[str, Any] = {"receive_timeout": timeout, "raise_exceptions": True, "read_only": not changes}
    words["auto_referrals"] = False
    if user:
        found = context.credentials(user, url.hostname)
        words |= {"user": found.user, "password": found.password, **_sign_in(str(setting.get("sign-in", "simple")))}
    elif setting.get("sign-in") == "kerberos":
        words |= _sign_in("kerberos")
    tls = ldap3.Tls(validate=ssl.CERT_REQUIRED, ca_certs_file=_file(context, setting.get("ca")))
    server = ldap3.Server(
        url.hostname,
        url.port,
        use_ssl=url.scheme == "ldaps",
        tls=tls,
        get_info=ldap3.NONE,
        connect_timeout=timeout,
    )
    connection = ldap3.Connection(server, auto_bind=False, **words)
    make_sound(connection, where)
    return connection


def starts_tls(setting: Mapping[str, Any]) -> bool:
    """Tell whether a connection is to be made safe once it is open (StartTLS, RFC 4511 section 4.14)."""
    return urlsplit(str(setting["url"])).scheme == "ldap" and not setting.get("allow-plain", False)


def _read_live(context: SourceContext, setting: Mapping[str, Any], not_seen: list[NotSeen]) -> list[Entry]:
    from ldap3.core.exceptions import LDAPCommunicationError, LDAPException

    where = str(setting["url"])
    for wait in (*_WAITS, None):
        session = _Session(context, setting, make_connection(context, setting, str(setting.get("user", ""))))
        try:
            entries = session.read(starts_tls=starts_tls(setting))
        except (LDAPException, OSError, ssl.SSLError) as error:
            message, hint = in_words(error)
            # Only where it was there once, and went away: then all of it is asked again.
            if wait is None or not (session.was_signed_in and isinstance(error, (LDAPCommunicationError, OSError))):
                raise SourceError(f"cannot read the directory: {message}", where, hint) from None
            context.tell(f"the directory went away ({message}); reading it again in {wait:g} s")
            time.sleep(wait)
        else:
            not_seen += session.not_seen
            return entries
    raise AssertionError


class _Session:
    """One connection to a directory: what is read by it, and what of it could not be seen."""

    def __init__(self, context: SourceContext, setting: Mapping[str, Any], connection: Any) -> None:
        self._context, self._setting, self._connection = context, setting, connection
        self.not_seen: list[NotSeen] = []
        self.was_signed_in = False

    def read(self, *, starts_tls: bool) -> list[Entry]:
        """Sign in, and return all entries; raises what the library raises."""
        try:
            sign_in(self._connection, starts_tls=starts_tls)
            self.was_signed_in = True
            return search(self._context, self._connection, self._setting, self.not_seen)
        finally:
            close(self._connection)


def close(connection: Any) -> None:
    """Close a connection, also where signing in failed half way, or it never came to be."""
    with suppress(Exception):
        connection.unbind()
    # Of one that was refused the library leaves the socket open.
    if getattr(connection, "socket", None) is not None:
        with suppress(OSError):
            connection.socket.close()


def sign_in(connection: Any, *, starts_tls: bool) -> None:
    """Open a connection and sign in; raises what the library raises."""
    from ldap3.core.exceptions import LDAPBindError

    connection.open()
    if starts_tls:
        connection.start_tls()
    try:
        connection.bind()
    except Exception as error:
        if not _is_of_kerberos(error):
            raise
        raise LDAPBindError(str(error)) from error


def _is_of_kerberos(error: BaseException) -> bool:
    # The library that makes the errors need not be there.
    return any(one.__name__ == "GSSError" for one in type(error).__mro__)


def _sign_in(how: str) -> dict[str, Any]:
    """Return how to sign in, as the library has it; raises `MissingPartError`."""
    import ldap3

    if how == "kerberos":
        if find_spec("gssapi") is None and find_spec("winkerberos") is None:
            raise MissingPartError("signing in by Kerberos wants one more part", hint="pip install gssapi")
        return {"authentication": ldap3.SASL, "sasl_mechanism": ldap3.KERBEROS}
    return {"authentication": ldap3.NTLM if how == "ntlm" else ldap3.SIMPLE}


# What a domain says of a password that is right or wrong (MS-ERREF 2.2, in hexadecimal, in the text of result 49).
_SIGN_IN_FAULTS = {
    "525": "there is nobody of this name",
    "52e": "the name or the password is wrong",
    "530": "this account may not sign in at this hour",
    "531": "this account may not sign in from here",
    "532": "the password of this account has expired",
    "533": "this account is disabled",
    "701": "this account has expired",
    "773": "this account must change its password first",
    "775": "this account is locked, after too many wrong passwords",
}
_OF_NAME = "see user in the plan, and the password in the environment or keyring"
_OF_PLACE = "see url, user and base in the plan"


def in_words(error: Exception) -> tuple[str, str]:
    """Return what an error means, and what to do about it, without all that the library has to say of it."""
    # Where a ticket was at fault the library tells what became of giving up.
    ticket: BaseException | None = error
    while ticket is not None and not _is_of_kerberos(ticket):
        ticket = ticket.__context__
    if ticket is not None:
        minor = re.findall(r"Minor \(\d+\): ([^(]{1,100})", " ".join(str(ticket).split()))
        hint = "get a ticket (kinit, klist), and name the server in url as its ticket does"
        return f"Kerberos says: {minor[-1].strip() if minor else str(ticket)[:100]}", hint
    text = _text_of(error)
    code = re.search(r"\bdata ([0-9a-f]{3})\b", text)
    if code and code[1] in _SIGN_IN_FAULTS:
        return _SIGN_IN_FAULTS[code[1]], _OF_NAME
    if "invalidCredentials" in text or "- 49 -" in text:
        return (
            "the name or the password is wrong",
            "see user in the plan, and the password in the environment or keyring",
        )
    if "confidentialityRequired" in text or "strongerAuthRequired" in text:
        return "it lets nobody sign in without TLS", "take allow-plain out of the plan, or write the url as ldaps://"
    if "noSuchObject" in text or "- 32 -" in text:
        return "there is nothing of the name of its base", "see base in the plan"
    if "certificate" in text.casefold():
        why = re.search(r"certificate verify failed: ([^(\[]{1,60})", text)
        reason = why[1].strip() if why else "it is not one that we trust"
        return f"its certificate does not hold: {reason}", "name the authority that signed it: ca: FILE"
    if "start_tls" in text.casefold() or "StartTLS" in text or ("unavailable" in text and "TLS" in text):
        return f"no TLS: {text[:80]}", "allow-plain: true does without, and names and password pass in the clear"
    if text.startswith("an answer that"):
        return text[:120], "see url in the plan: does a directory answer there, and nothing in between?"
    tls = re.search(r"\[(?:SSL|X509)[^\]]*\] ([^(]{1,60})", text)
    if tls:
        return f"TLS failed: {tls[1].strip()}", f"{_OF_PLACE}; allow-plain: true does without TLS"
    refused = re.match(r"LDAP\w+Result - \d+ - (\w+) - [^-]* - (.{0,80}?) - \w+ - ", text)
    if refused:
        return f"it answers {refused[1]}" + (f": {refused[2]}" if refused[2] != "None" else ""), _OF_PLACE
    return (text[:120] or type(error).__name__), f"{_OF_PLACE}; allow-plain: true does without TLS"


def _text_of(error: BaseException) -> str:
    """Return what an error says in one line; the library puts the words of another into a row of their own."""
    said: object = error
    while (
        isinstance(said, BaseException | tuple) and len(inner := said if isinstance(said, tuple) else said.args) == 1
    ):
        said = inner[0]
    return " ".join(str(said).split())


def _file(context: SourceContext, name: str | None) -> str | None:
    if not name:
        return None
    path = context.office_dir / name
    if not path.is_file():
        raise SourceError("there is no file of authorities to trust", str(path), "see ca in the plan")
    return str(path)


def search(
    context: SourceContext, connection: Any, setting: Mapping[str, Any], not_seen: list[NotSeen]
) -> list[Entry]:
    """Return all entries of the directory's base; what is said to be elsewhere, or was not given, is noted."""
    return _Search(context, connection, setting, not_seen).read()


class _Search:
    """All entries of a directory's base, though it gives only so many at a time.

    A limit on size, time or work (RFC 4511 appendix A.1: results 3, 4 and 11) cuts an answer short. Then the same is
    asked in parts, by the first letters of the name, each of which may be within the limit.
    """

    def __init__(
        self, context: SourceContext, connection: Any, setting: Mapping[str, Any], not_seen: list[NotSeen]
    ) -> None:
        self._context, self._connection, self._setting, self._not_seen = context, connection, setting, not_seen
        self._entries: dict[str, Entry] = {}
        self._elsewhere: set[str] = set()
        self._asked = 0
        self._page = int(setting.get("page", 500))

    def read(self) -> list[Entry]:
        """Return the entries; raises `SourceError`, and what the library raises."""
        wanted = str(self._setting.get("filter", _FILTER))
        limit = self._ask(wanted)
        if limit and not self._ask_in_parts(wanted, _SPLIT_BY, ""):
            why = f"the directory gave {len(self._entries):,} entries and no more: its limit on {limit}"
            self._not_seen.append(NotSeen.of_source(str(self._setting["url"]), f"{why} keeps the rest back"))
        return list(self._entries.values())

    def _ask_in_parts(self, wanted: str, attributes: Sequence[str], start: str) -> bool:
        """Ask for the entries of a filter in parts, by the letters after the first ones; tell whether all came."""
        if self._asked > _MOST_ASKED or not attributes:
            return False
        if len(start) >= _DEEPEST:
            return self._ask_in_parts(wanted, attributes[1:], "")
        begins = [f"({attributes[0]}={start}{letter}*)" for letter in _LETTERS]
        has_all = True
        for letter, begin in zip(_LETTERS, begins, strict=True):
            part = f"(&{wanted}{begin})"
            if self._ask(part):
                has_all &= self._ask_in_parts(part, attributes, start + letter)
        # Names that go on otherwise, and entries without one.
        rest = f"(&{wanted}(!(|{''.join(begins)})))"
        return has_all and (not self._ask(rest) or self._ask_in_parts(rest, attributes[1:], ""))

    def _ask(self, wanted: str) -> str:
        """Take the entries of a filter, and return what limit kept some of them back; nothing where none did."""
        self._asked += 1
        for page in (self._page, *(one for one in _SMALLER_PAGES if one < self._page)):
            self._page = page
            limit = self._ask_in_pages(wanted, page)
            if limit != _LIMITS[11]:
                break
        # Some let nobody ask for so many at once: a smaller page may be within the limit.
        return limit

    def _ask_in_pages(self, wanted: str, page: int) -> str:
        from ldap3.core.exceptions import LDAPAdminLimitExceededResult

        found = self._connection.extend.standard.paged_search(
            str(self._setting["base"]),
            wanted,
            attributes=_WANTED,
            paged_size=page,
            generator=True,
        )
        try:
            for row in found:
                self._take(row)
        except LDAPAdminLimitExceededResult:
            return _LIMITS[11]
        answer = self._connection.result or {}
        if answer.get("result") == _REFERRAL:
            # The library raises for every other refusal; an empty answer here would pass for an empty directory.
            places = " or ".join(map(str, answer.get("referrals") or ()))
            hint = "name that server in the plan, if it is one of the office's"
            where = str(self._setting["url"])
            raise SourceError(f"the directory refers to another, which was not asked: {places}", where, hint)
        return _LIMITS.get(answer.get("result", 0), "")

    def _take(self, row: Mapping[str, Any]) -> None:
        if row.get("type") == "searchResEntry" and row["dn"] not in self._entries:
            self._entries[row["dn"]] = read_entry(self._connection, row["dn"], row["raw_attributes"])
            self._context.progress(1)
        elif row.get("type") == "searchResRef":
            places = " or ".join(map(str, row.get("uri", ())))
            if places not in self._elsewhere:
                self._elsewhere.add(places)
                why = "part of the directory is said to be there; it was not asked"
                self._not_seen.append(NotSeen.of_source(places, why))


_MOST_PARTS = 10_000


def told_entries(connection: Any) -> list[Mapping[str, Any]]:
    """Return the entries among what the last search told: references stand between them (RFC 4511 section 4.5.2)."""
    return [row for row in connection.response or () if row.get("type") == "searchResEntry"]


def read_entry(connection: Any, name: str, told: Mapping[str, Any]) -> Entry:
    """Return an entry from what was told of it, and ask for further parts of its values (MS-ADTS 3.1.1.3.1.3.3)."""
    values: dict[str, list[bytes]] = {}
    is_cut = False
    for key, each in told.items():
        kind, _, option = key.lower().partition(";")
        values.setdefault(kind, []).extend(each)
        for _ in range(_MOST_PARTS):
            last = re.fullmatch(r"range=\d+-(\d+)", option)
            if last is None:
                break
            wanted = f"{kind};range={int(last[1]) + 1}-*"
            connection.search(name, "(objectClass=*)", "BASE", attributes=[wanted])
            rows = told_entries(connection)
            more = {key.lower(): each for row in rows for key, each in row["raw_attributes"].items()}
            option = ""
            for found, part in more.items():
                if found.startswith(f"{kind};range="):
                    values[kind].extend(part)
                    option = found.partition(";")[2]
            is_cut = not option
    return Entry(name, values, is_cut)
